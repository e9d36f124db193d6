//! Sound at the low rates that measures of speech look at.

use super::{faults, pitch, repeats};
use crate::audio::{Audio, resample};

/// The same sound at the rates of three measures, each made from the one above it, which has fewer samples than the sound itself.
pub(super) struct Lowered {
    pub(super) for_pitch: Audio,
    pub(super) for_repeats: Audio,
    pub(super) for_hum: Audio,
}

impl Lowered {
    /// None where the sound has a rate that cannot be changed.
    pub(super) fn new(audio: &Audio) -> Option<Self> {
        // Sound of a lower rate than the one above has nothing more there.
        let from = |above: &Audio, rate_hz: u32| {
            resample(if audio.rate_hz < above.rate_hz { audio } else { above }, rate_hz).ok()
        };
        let for_pitch = from(audio, pitch::RATE_HZ)?;
        let for_repeats = from(&for_pitch, repeats::RATE_HZ)?;
        let for_hum = from(&for_repeats, faults::HUM_RATE_HZ)?;
        Some(Self { for_pitch, for_repeats, for_hum })
    }
}
