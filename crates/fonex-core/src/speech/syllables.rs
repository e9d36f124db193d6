//! Syllables counted in the sound.

use super::PitchTrack;
use crate::audio::{Audio, decibels, power};

const HOP_S: f64 = 0.010;
/// Long enough to hold a few periods of a low voice.
const WINDOW_S: f64 = 0.050;
/// A nucleus is louder than what lies between it and the one before by this many decibels.
const DIP_DB: f64 = 2.5;
/// And no quieter than this below the loudest.
const BELOW_LOUDEST_DB: f64 = 25.0;

/// The syllables of a recording: peaks of the level that are voiced, with a dip of 2.5 dB before them (de Jong and Wempe, Behavior Research
/// Methods 41(2), 2009; windows of our own). Linear in the length.
#[must_use]
pub fn syllables(audio: &Audio, track: &PitchTrack) -> u32 {
    // A whole number of samples: at 22,050 Hz not quite ten milliseconds.
    let hop = audio.samples_in(HOP_S);
    let hop_s = hop as f64 / f64::from(audio.rate_hz);
    let levels = levels_db(audio, hop);
    let mut sorted = levels.clone();
    sorted.sort_unstable_by(f64::total_cmp);
    let Some(loudest) = crate::stats::quantile_sorted(&sorted, 0.99) else { return 0 };
    let least = loudest - BELOW_LOUDEST_DB;
    let voiced = |frame: usize| {
        // The frames of both are counted from the beginning, and a window lies around its middle.
        let at = (frame as f64 * hop_s / track.hop_s) as usize;
        track
            .hz
            .get(at.saturating_sub(2)..(at + 3).min(track.hz.len()))
            .is_some_and(|near| near.iter().any(Option::is_some))
    };
    let (mut count, mut lowest, mut peak) = (0, f64::MIN, None::<(usize, f64)>);
    for (frame, level) in levels.iter().copied().enumerate() {
        match peak {
            // Rising from a dip: the highest so far.
            Some((_, top)) if level > top => peak = Some((frame, level)),
            // Far enough below it: that was a nucleus.
            Some((at, top)) if level < top - DIP_DB => {
                count += u32::from(top > least && voiced(at));
                (peak, lowest) = (None, level);
            }
            None if level > lowest + DIP_DB || lowest == f64::MIN => peak = Some((frame, level)),
            None => lowest = lowest.min(level),
            Some(_) => {}
        }
    }
    count + u32::from(peak.is_some_and(|(at, top)| top > least && voiced(at)))
}

/// The level around each hop of this many samples, Hann-weighted, in decibels.
fn levels_db(audio: &Audio, hop: usize) -> Vec<f64> {
    let window = audio.samples_in(WINDOW_S);
    // Powers of blocks first, so that the window costs a few additions.
    const BLOCKS: usize = 5;
    let block = (window / BLOCKS).max(1);
    let powers: Vec<f64> = audio.samples.chunks(block).map(power).collect();
    let weights: Vec<f64> =
        (0..BLOCKS).map(|i| 0.5 - 0.5 * ((i as f64 + 0.5) / BLOCKS as f64 * std::f64::consts::TAU).cos()).collect();
    let total: f64 = weights.iter().sum();
    (0..audio.samples.len())
        .step_by(hop)
        .map(|centre| {
            let first = (centre / block) as isize - BLOCKS as isize / 2;
            let power: f64 = weights
                .iter()
                .enumerate()
                .map(|(i, weight)| {
                    let at = usize::try_from(first + i as isize).ok();
                    weight * at.and_then(|at| powers.get(at)).copied().unwrap_or(0.0)
                })
                .sum();
            decibels((power / total).max(1e-12))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::speech::pitch_track;
    use std::f64::consts::TAU;

    /// This many swells of a buzz a second.
    fn spoken(rate_per_s: f64, seconds: f64, rate_hz: u32) -> Audio {
        let samples = (0..(seconds * f64::from(rate_hz)) as usize).map(|i| {
            let t = i as f64 / f64::from(rate_hz);
            let swell = 0.5 - 0.5 * (TAU * rate_per_s * t).cos();
            let buzz: f64 = (1..15).map(|h| (TAU * 130.0 * f64::from(h) * t).sin() / f64::from(h)).sum();
            (0.2 * swell * buzz) as f32
        });
        Audio { rate_hz, samples: samples.collect() }
    }

    /// In a long recording a hop that is not quite ten milliseconds would add up.
    #[test]
    fn swells_are_counted_at_every_rate() {
        for rate_hz in [8_000, 11_025, 16_000, 22_050, 44_100, 48_000] {
            let audio = spoken(4.0, 130.0, rate_hz);
            let found = f64::from(syllables(&audio, &pitch_track(&audio)));
            assert!((found - 520.0).abs() <= 2.0, "{found} at {rate_hz} Hz");
        }
    }

    #[test]
    fn swells_are_counted() {
        for (rate, seconds) in [(2.0, 5.0), (4.0, 5.0), (6.0, 4.0), (8.0, 3.0)] {
            let audio = spoken(rate, seconds, 16_000);
            let found = f64::from(syllables(&audio, &pitch_track(&audio)));
            assert!((found - rate * seconds).abs() <= 1.0, "{found} for {}", rate * seconds);
        }
    }

    #[test]
    fn a_steady_tone_is_one_and_silence_and_noise_are_none() {
        let buzz = |t: f64| (1..15).map(|h| (TAU * 130.0 * f64::from(h) * t).sin() / f64::from(h)).sum::<f64>() * 0.1;
        let steady: Vec<f32> = (0..32_000).map(|i| buzz(f64::from(i) / 16_000.0) as f32).collect();
        let count = |samples: Vec<f32>| {
            let audio = Audio { rate_hz: 16_000, samples };
            syllables(&audio, &pitch_track(&audio))
        };
        assert_eq!(count(steady), 1);
        assert_eq!(count(vec![0.0; 16_000]), 0);
        assert_eq!(count(Vec::new()), 0);
        let hiss = crate::audio::noise(crate::audio::NoiseColour::White, 32_000, 16_000, 2);
        assert!(count(hiss) <= 2);
    }
}
