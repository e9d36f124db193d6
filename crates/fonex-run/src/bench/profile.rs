//! Text profiles by name, or from a project's own file.

use std::path::Path;

use fonex_core::text::TextProfile;
use fonex_formats::{Place, Problem, checksum, value_strict};
use serde::de::DeserializeOwned;

use super::unknown;

/// A shipped profile, or one in a TOML file whose path ends in `.toml`, relative to `folder`.
pub fn read_profile(name: &str, folder: &Path, place: Place) -> Result<TextProfile, Problem> {
    let known = TextProfile::SHIPPED.map(str::to_owned);
    if !name.ends_with(".toml") {
        return TextProfile::shipped(name).map_err(|error| unknown(error.to_string(), name, &known, place));
    }
    let path = folder.join(name);
    let profile: TextProfile = read_toml(&path)?;
    profile.resolved().map_err(|error| {
        let missing = error.0.clone();
        unknown(error.to_string(), &missing, &known, Place::file(&path).field("steps"))
    })
}

/// A TOML file as a value; complaints name the line or the field.
pub fn read_toml<T: DeserializeOwned>(path: &Path) -> Result<T, Problem> {
    let text = fonex_formats::regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
    let table: toml::Table = toml::from_str(&text).map_err(|error| {
        let line = error.span().map(|span| text[..span.start.min(text.len())].matches('\n').count() as u64 + 1);
        let place = line.map_or_else(|| Place::file(path), |line| Place::line(path, line));
        Problem::new(error.message().to_owned(), place)
    })?;
    let at = Place::file(path);
    let value = serde_json::to_value(table)
        .map_err(|error| Problem::new(format!("a value cannot be used: {error}"), at.clone()))?;
    value_strict(value, at, "", &[])
}

/// SHA-256 of a profile, steps and name: two runs with the same one compared their texts alike.
pub fn profile_checksum(profile: &TextProfile) -> String {
    checksum::of_bytes(&serde_json::to_vec(profile).expect("a profile is plain data"))
}
