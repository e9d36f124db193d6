//! Samples in memory: measuring them, changing their rate, making them worse on purpose.

mod codec;
mod degrade;
mod filter;
mod loudness;
mod measure;
mod pauses;
mod resample;
mod spectrogram;
mod stream_loss;
mod tempo;

pub use codec::{Law, compand};
pub use degrade::{NoiseColour, add_noise, clip_samples, noise, reverberate};
pub use filter::band_limit;
pub use loudness::{Loudness, loudness};
pub use measure::{AudioMeasures, SilenceEnds, active_level_db, measure};
pub use pauses::{PauseRule, Stretch, cut_at_pauses, pauses};
pub use resample::{ResampleError, resample};
pub use spectrogram::{Spectrogram, log_mel};
pub use stream_loss::{Concealment, lose_packets};
pub use tempo::{change_speed, change_tempo};

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
    fn samples_in(&self, seconds: f64) -> usize {
        ((f64::from(self.rate_hz) * seconds) as usize).max(1)
    }
}

/// Amplitude as decibels below full scale; silence is minus infinity.
fn decibels(power: f64) -> f64 {
    10.0 * power.log10()
}

/// Mean square of some samples; zero for none.
fn power(samples: &[f32]) -> f64 {
    if samples.is_empty() {
        return 0.0;
    }
    samples.iter().map(|s| f64::from(*s).powi(2)).sum::<f64>() / samples.len() as f64
}
