//! Changing the sample rate.

use fonex_signal::change_rate;
use thiserror::Error;

use super::Audio;

/// The most samples a recording has after its rate was changed: 1.6 GB of memory.
const MOST_SAMPLES: u64 = 400_000_000;

/// Why a rate could not be changed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ResampleError {
    /// A rate outside what speech audio has.
    #[error("a sample rate of {0} Hz lies outside 1,000 to 768,000 Hz")]
    Rate(u32),
    /// More samples than are taken into memory.
    #[error("at {to_hz} Hz it has {samples} samples, more than are taken into memory; cut it")]
    TooLong {
        /// How many there would be.
        samples: u64,
        /// Rate asked for.
        to_hz: u32,
    },
    /// The filter could not be built or run.
    #[error("changing {from_hz} Hz to {to_hz} Hz failed: {reason}")]
    Filter {
        /// Rate of the input.
        from_hz: u32,
        /// Rate asked for.
        to_hz: u32,
        /// What the resampler says.
        reason: String,
    },
}

/// Changes the sample rate with a synchronous FFT low-pass (Blackman-Harris squared window), without shifting the
/// sound in time by more than a sample of the lower rate. The window covers a fifth of a second, which keeps 0.1 dB up to 99 % of the lower Nyquist frequency.
///
/// # Errors
/// When a rate lies outside 1,000 to 768,000 Hz, or there would be more than 400 million samples.
pub fn resample(audio: &Audio, to_hz: u32) -> Result<Audio, ResampleError> {
    let from_hz = audio.rate_hz;
    for rate in [from_hz, to_hz] {
        if !(1_000..=768_000).contains(&rate) {
            return Err(ResampleError::Rate(rate));
        }
    }
    if from_hz == to_hz || audio.samples.is_empty() {
        return Ok(Audio { rate_hz: to_hz, samples: audio.samples.clone() });
    }
    let samples = audio.samples.len() as u64 * u64::from(to_hz) / u64::from(from_hz);
    if samples > MOST_SAMPLES {
        return Err(ResampleError::TooLong { samples, to_hz });
    }
    let samples = change_rate(&audio.samples, from_hz, to_hz).map_err(|reason| ResampleError::Filter {
        from_hz,
        to_hz,
        reason,
    })?;
    Ok(Audio { rate_hz: to_hz, samples })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, measure};

    fn tone(rate_hz: u32, frequency: f64) -> Audio {
        let samples = (0..rate_hz)
            .map(|i| (0.5 * (f64::from(i) * frequency / f64::from(rate_hz) * std::f64::consts::TAU).sin()) as f32)
            .collect();
        Audio { rate_hz, samples }
    }

    fn middle_level(audio: &Audio) -> f64 {
        let fifth = audio.samples.len() / 5;
        let middle = Audio { rate_hz: audio.rate_hz, samples: audio.samples[fifth..4 * fifth].to_vec() };
        measure(&middle).level_dbfs.unwrap_or(-200.0)
    }

    #[test]
    fn a_tone_keeps_its_level_and_an_alias_is_gone() {
        for (from, to) in [(22050, 16000), (44100, 16000), (48000, 16000), (8000, 16000)] {
            let kept = resample(&tone(from, 1000.0), to).unwrap();
            assert_eq!(kept.samples.len() as u32, to, "{from} to {to}");
            assert!((middle_level(&kept) - middle_level(&tone(from, 1000.0))).abs() < 0.1, "{from} to {to}");
        }
        let alias = resample(&tone(44100, 9000.0), 16000).unwrap();
        assert!(middle_level(&alias) < -90.0, "{}", middle_level(&alias));
    }

    #[test]
    fn what_was_changed_before_leaves_no_trace() {
        let noise =
            |n| Audio { rate_hz: 22_050, samples: crate::audio::noise(NoiseColour::White, n, 22_050, n as u64) };
        let fresh = resample(&noise(10_000), 8_000).unwrap();
        resample(&noise(23_456), 8_000).unwrap();
        assert_eq!(resample(&noise(10_000), 8_000).unwrap(), fresh);
        // More pairs of rates than are remembered.
        (0..40).for_each(|more| drop(resample(&noise(3_000), 9_000 + more).unwrap()));
        assert_eq!(resample(&noise(10_000), 8_000).unwrap(), fresh);
    }

    #[test]
    fn impossible_rates_are_named() {
        let audio = Audio { rate_hz: 0, samples: vec![0.0; 4] };
        assert_eq!(resample(&audio, 16000), Err(ResampleError::Rate(0)));
    }
}
