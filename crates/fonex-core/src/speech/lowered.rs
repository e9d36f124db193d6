//! Sound at the low rates that measures of speech look at.

use crate::audio::{Audio, resample};

/// The same sound at three rates, each made from the one above it, which costs half as much as from the sound itself.
pub(super) struct Lowered {
    /// For the pitch, up to its first harmonics.
    pub(super) at_8_khz: Audio,
    /// For what comes twice.
    pub(super) at_4_khz: Audio,
    /// For hum.
    pub(super) at_2_khz: Audio,
}

impl Lowered {
    /// None where the sound has a rate that cannot be changed.
    pub(super) fn new(audio: &Audio) -> Option<Self> {
        // What is lower than the one above has all that is left in it.
        let from = |above: &Audio, rate_hz: u32| {
            resample(if audio.rate_hz < above.rate_hz { audio } else { above }, rate_hz).ok()
        };
        let at_8_khz = from(audio, 8_000)?;
        let at_4_khz = from(&at_8_khz, 4_000)?;
        let at_2_khz = from(&at_4_khz, 2_000)?;
        Some(Self { at_8_khz, at_4_khz, at_2_khz })
    }
}
