//! Samples in memory: measuring them, changing their rate, making them worse on purpose.

mod blocks;
mod channels;
mod codec;
mod correlation;
mod degrade;
mod filter;
mod loudness;
mod measure;
mod outline;
mod pauses;
mod resample;
mod spectrogram;
mod stream_loss;
mod tempo;
mod voice;

pub(crate) use blocks::Blocks;
pub use channels::{ChannelMeasures, ChannelMeter, Channels};
pub use codec::{Law, compand};
pub(crate) use correlation::{Correlation, Energies};
pub use degrade::{NoiseColour, add_noise, clip_samples, noise, reverberate};
pub use filter::band_limit;
pub(crate) use loudness::LoudnessMeter;
pub use loudness::{Loudness, loudness};
pub(crate) use measure::LevelMeter;
pub use measure::{AudioMeasures, SilenceEnds, active_level_db, measure};
pub use outline::{Outline, extremes};
pub use pauses::{PauseMeter, PauseRule, Stretch, cut_at_pauses, pauses};
pub use resample::{ResampleError, resample};
pub use spectrogram::{MelMeter, Spectrogram, log_mel};
pub use stream_loss::{Concealment, lose_packets};
pub use tempo::{change_speed, change_tempo};
pub use voice::{LEAST_VOICED_S, voiced_s};

/// One channel of sound. Full scale is -1 to 1.
#[derive(Debug, Clone, PartialEq)]
pub struct Audio {
    /// Samples a second; never zero.
    pub rate_hz: u32,
    /// The samples.
    pub samples: Vec<f32>,
}

impl Audio {
    /// Length in seconds.
    #[must_use]
    pub fn duration_s(&self) -> f64 {
        self.samples.len() as f64 / f64::from(self.rate_hz)
    }

    /// Samples in a stretch of time, at least one.
    #[must_use]
    pub(crate) fn samples_in(&self, seconds: f64) -> usize {
        samples_in(self.rate_hz, seconds)
    }
}

/// Samples in a stretch of time at a rate, at least one.
pub(crate) fn samples_in(rate_hz: u32, seconds: f64) -> usize {
    ((f64::from(rate_hz) * seconds) as usize).max(1)
}

/// Amplitude as decibels below full scale; silence is minus infinity.
pub(crate) fn decibels(power: f64) -> f64 {
    10.0 * power.log10()
}

/// Mean square of some samples; zero for none.
pub(crate) fn power(samples: &[f32]) -> f64 {
    if samples.is_empty() {
        return 0.0;
    }
    sum(samples, |s| s * s) / samples.len() as f64
}

/// Sum over samples in eight strands, which the processor adds side by side. Strands go by number, here and in other loops over sound:
/// the tests' build calls the constructor of a pair of iterators where it lies, for every eight samples.
fn sum(samples: &[f32], of: impl Fn(f64) -> f64) -> f64 {
    const STRANDS: usize = 8;
    let (eights, rest) = samples.as_chunks::<STRANDS>();
    let mut sums = [0.0; STRANDS];
    for eight in eights {
        for strand in 0..STRANDS {
            sums[strand] += of(f64::from(eight[strand]));
        }
    }
    sums.iter().sum::<f64>() + rest.iter().map(|s| of(f64::from(*s))).sum::<f64>()
}

/// The highest absolute sample; zero for none.
pub(crate) fn peak(samples: &[f32]) -> f32 {
    const STRANDS: usize = 16;
    let (chunks, rest) = samples.as_chunks::<STRANDS>();
    let mut peaks = [0.0_f32; STRANDS];
    for chunk in chunks {
        for strand in 0..STRANDS {
            let s = chunk[strand].abs();
            peaks[strand] = if s > peaks[strand] { s } else { peaks[strand] };
        }
    }
    peaks.iter().chain(rest).fold(0.0, |peak, s| peak.max(s.abs()))
}
