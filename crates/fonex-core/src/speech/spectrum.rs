//! The long-term spectrum of a voice in two figures: how it falls, and where it ends.

use serde::{Deserialize, Serialize};

use crate::audio::{Audio, decibels, power};
use crate::stats::quantile;

/// What the average spectrum of speech says of a voice and of the way its sound was made.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Spectrum {
    /// How the level falls with the frequency from 250 Hz to 4 kHz, in decibels an octave; speech falls by 4 to 8.
    pub tilt_db_per_octave: f64,
    /// The frequency above which there is nothing, in hertz: far below half the sample rate the sound was once narrower than it is sold.
    pub band_limit_hz: f64,
}

/// Third octaves that the tilt is taken over (IEC 61260, exact middles).
const THIRDS_HZ: [f64; 13] =
    [250.0, 315.0, 400.0, 500.0, 630.0, 800.0, 1_000.0, 1_250.0, 1_600.0, 2_000.0, 2_500.0, 3_150.0, 4_000.0];
/// What is this far below the strongest part is nothing: the noise of sixteen bits lies lower still beside speech.
const NOTHING_DB: f64 = 75.0;
/// Frames this far below the loud ones are left out, in power.
const QUIET: f64 = 1e-3;

/// The long-term average spectrum of the frames that hold sound (Löfqvist and Mandersson, "Long-time average spectrum of speech and voice
/// analysis", 1987), Hann windows of about 50 ms. None for less than a fifth of a second of sound.
#[must_use]
pub fn long_term_spectrum(audio: &Audio) -> Option<Spectrum> {
    let mut sums = SpectrumSums::default();
    sums.add(audio);
    sums.spectrum()
}

/// The spectrum summed over the loud frames of one or several pieces of a recording.
#[derive(Default)]
pub(super) struct SpectrumSums {
    rate_hz: u32,
    size: usize,
    sums: Vec<f64>,
    frames: f64,
}

impl SpectrumSums {
    /// Adds the frames of a piece that are loud in it.
    pub(super) fn add(&mut self, audio: &Audio) {
        let size = audio.samples_in(0.05).next_power_of_two();
        (self.rate_hz, self.size) = (audio.rate_hz, size);
        let Some(last) = audio.samples.len().checked_sub(size) else { return };
        let starts: Vec<usize> = (0..=last).step_by(size / 2).collect();
        let powers: Vec<f64> = starts.iter().map(|start| power(&audio.samples[*start..start + size])).collect();
        let Some(loud) = quantile(&powers, 0.9) else { return };
        let least = loud * QUIET;
        let transform = fonex_signal::forward(size);
        let (mut input, mut output) = (transform.make_input_vec(), transform.make_output_vec());
        let window: Vec<f32> =
            (0..size).map(|i| 0.5 - 0.5 * (i as f32 / size as f32 * std::f32::consts::TAU).cos()).collect();
        self.sums.resize(size / 2 + 1, 0.0);
        for (start, _) in starts.iter().zip(&powers).filter(|(_, power)| **power > least.max(1e-9)) {
            for (into, (sample, weight)) in input.iter_mut().zip(audio.samples[*start..].iter().zip(&window)) {
                *into = sample * weight;
            }
            transform.process(&mut input, &mut output).expect("buffers have the planned sizes");
            self.sums.iter_mut().zip(&output).for_each(|(sum, bin)| *sum += f64::from(bin.norm_sqr()));
            self.frames += 1.0;
        }
    }

    pub(super) fn spectrum(&self) -> Option<Spectrum> {
        let Self { rate_hz, size, sums, frames } = self;
        let hz_per_bin = f64::from(*rate_hz) / *size as f64;
        if sums.is_empty() || frames * (size / 2) as f64 / f64::from(*rate_hz) < 0.2 {
            return None;
        }
        let nyquist = f64::from(*rate_hz) / 2.0;
        let thirds = THIRDS_HZ.iter().filter(|middle| **middle * 1.13 < nyquist).map(|middle| {
            let bins = |hz: f64| ((hz / hz_per_bin).round() as usize).min(sums.len() - 1);
            let (from, to) = (bins(middle / 1.122), bins(middle * 1.122).max(bins(middle / 1.122) + 1));
            let mean = sums[from..to].iter().sum::<f64>() / (to - from) as f64;
            (middle.log2(), decibels(mean.max(1e-20)))
        });
        Some(Spectrum {
            tilt_db_per_octave: slope(&thirds.collect::<Vec<_>>())?,
            band_limit_hz: limit(sums, hz_per_bin)?,
        })
    }
}

/// The highest frequency whose surroundings are more than nothing.
fn limit(sums: &[f64], hz_per_bin: f64) -> Option<f64> {
    // Over 200 Hz, so that one bin of a click does not count.
    let around = ((200.0 / hz_per_bin) as usize).max(1);
    let means: Vec<f64> = sums.windows(around).map(|near| near.iter().sum::<f64>() / around as f64).collect();
    let strongest = means.iter().copied().fold(0.0, f64::max);
    let least = strongest / 10_f64.powf(NOTHING_DB / 10.0);
    let last = means.iter().rposition(|mean| *mean > least)?;
    Some(((last + around / 2) as f64 * hz_per_bin).min((sums.len() - 1) as f64 * hz_per_bin))
}

/// Least squares.
fn slope(points: &[(f64, f64)]) -> Option<f64> {
    let n = points.len() as f64;
    let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / n;
    let (x, y) = (mean(|p| p.0), mean(|p| p.1));
    let squares: f64 = points.iter().map(|p| (p.0 - x).powi(2)).sum();
    (squares > 0.0).then(|| points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>() / squares)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, noise, resample};

    fn hiss(colour: NoiseColour, rate_hz: u32) -> Audio {
        Audio { rate_hz, samples: noise(colour, rate_hz as usize * 3, rate_hz, 4) }
    }

    #[test]
    fn white_noise_is_level_and_pink_noise_falls_by_three_decibels() {
        for rate_hz in [16_000, 22_050, 44_100] {
            let white = long_term_spectrum(&hiss(NoiseColour::White, rate_hz)).unwrap();
            assert!(white.tilt_db_per_octave.abs() < 0.3, "{white:?}");
            assert!(white.band_limit_hz > f64::from(rate_hz) * 0.48, "{white:?}");
            let pink = long_term_spectrum(&hiss(NoiseColour::Pink, rate_hz)).unwrap();
            assert!((pink.tilt_db_per_octave + 3.0).abs() < 0.5, "{pink:?}");
        }
    }

    #[test]
    fn what_was_narrow_once_is_told_at_any_rate() {
        for (narrow_hz, rate_hz) in [(8_000, 16_000), (8_000, 44_100), (16_000, 48_000)] {
            let sold = resample(&hiss(NoiseColour::White, narrow_hz), rate_hz).unwrap();
            let limit = long_term_spectrum(&sold).unwrap().band_limit_hz;
            let truth = f64::from(narrow_hz) / 2.0;
            assert!((limit - truth).abs() < truth * 0.08, "{limit} for {truth}");
        }
    }

    #[test]
    fn too_little_sound_has_no_spectrum() {
        for samples in [vec![], vec![0.0; 16_000], vec![0.3; 800]] {
            assert_eq!(long_term_spectrum(&Audio { rate_hz: 16_000, samples }), None);
        }
    }
}
