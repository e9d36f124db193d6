//! The checksum that tells one text profile from another.

use fonex_core::text::TextProfile;
use fonex_formats::checksum;

/// SHA-256 of a profile, steps and name: two runs with the same one compared their texts alike.
#[must_use]
pub fn profile_checksum(profile: &TextProfile) -> String {
    checksum::of_bytes(&serde_json::to_vec(profile).expect("a profile is plain data"))
}
