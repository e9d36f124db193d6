//! Faster and slower speech, with the pitch or without it.

use super::{Audio, ResampleError, resample};

/// Plays a recording at `factor` times its speed, pitch and all, as a tape does. Times in it shrink by the factor.
///
/// # Errors
/// When the factor leaves the rates that can be resampled.
pub fn change_speed(audio: &Audio, factor: f64) -> Result<Audio, ResampleError> {
    let as_if_hz = (f64::from(audio.rate_hz) * factor).round() as u32;
    let faster = Audio { rate_hz: as_if_hz, samples: audio.samples.clone() };
    resample(&faster, audio.rate_hz)
}

/// Window of the overlap, in seconds.
const WINDOW_S: f64 = 0.030;
/// How far around its place the best fitting window is looked for, in seconds.
const SEARCH_S: f64 = 0.010;

/// Speaks `factor` times as fast at the same pitch: waveform similarity overlap-add (Verhelst and Roelands, "An overlap-add
/// technique based on waveform similarity (WSOLA)", 1993). Times in it shrink by the factor. Linear in the length.
#[must_use]
pub fn change_tempo(audio: &Audio, factor: f64) -> Audio {
    let window = audio.samples_in(WINDOW_S) / 2 * 2;
    let hop = window / 2;
    let search = audio.samples_in(SEARCH_S);
    let input = &audio.samples;
    let length = (input.len() as f64 / factor).round() as usize;
    if window < 4 || input.len() <= window + 2 * search || factor == 1.0 {
        return Audio { rate_hz: audio.rate_hz, samples: input.iter().copied().take(length).collect() };
    }
    let shape: Vec<f32> =
        (0..window).map(|i| 0.5 - 0.5 * ((i as f32 + 0.5) / window as f32 * std::f32::consts::TAU).cos()).collect();
    let mut output = vec![0.0_f32; length + window];
    let mut weight = vec![0.0_f32; length + window];
    // The window that would follow the last one naturally; the next is chosen to be most like it.
    let mut natural = 0;
    for place in (0..length).step_by(hop) {
        let ideal = (place as f64 * factor) as usize;
        let first = ideal.saturating_sub(search).min(input.len() - window);
        let last = (ideal + search).min(input.len() - window);
        let chosen = if place == 0 { 0 } else { most_alike(input, natural, first, last, window) };
        for i in 0..window {
            output[place + i] += input[chosen + i] * shape[i];
            weight[place + i] += shape[i];
        }
        natural = (chosen + hop).min(input.len() - window);
    }
    let samples = output.iter().zip(&weight).take(length).map(|(s, w)| if *w > 1e-3 { s / w } else { *s }).collect();
    Audio { rate_hz: audio.rate_hz, samples }
}

/// The window between `first` and `last` that correlates best with the one at `natural`; every second place and every
/// second sample are tried, which is fine enough for speech.
fn most_alike(input: &[f32], natural: usize, first: usize, last: usize, window: usize) -> usize {
    let alike = |at: usize| -> f32 {
        let pairs = input[natural..natural + window].iter().step_by(2).zip(input[at..at + window].iter().step_by(2));
        pairs.map(|(a, b)| a * b).sum()
    };
    (first..=last).step_by(2).map(|at| (at, alike(at))).max_by(|a, b| a.1.total_cmp(&b.1)).map_or(first, |(at, _)| at)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tone() -> Audio {
        Audio {
            rate_hz: 16_000,
            samples: (0..32_000).map(|i| (i as f32 / 16_000.0 * 440.0 * std::f32::consts::TAU).sin() * 0.5).collect(),
        }
    }

    /// Cycles a second in the middle half, from rising zero crossings.
    fn frequency(audio: &Audio) -> f64 {
        let middle = &audio.samples[audio.samples.len() / 4..audio.samples.len() * 3 / 4];
        let crossings = middle.windows(2).filter(|pair| pair[0] < 0.0 && pair[1] >= 0.0).count();
        crossings as f64 / (middle.len() as f64 / f64::from(audio.rate_hz))
    }

    #[test]
    fn speed_moves_the_pitch_and_tempo_does_not() {
        for factor in [0.8, 1.25, 1.5] {
            let faster = change_speed(&tone(), factor).unwrap();
            assert!((faster.duration_s() - 2.0 / factor).abs() < 0.002, "{}", faster.duration_s());
            assert!((frequency(&faster) - 440.0 * factor).abs() < 4.0, "{}", frequency(&faster));
            let stretched = change_tempo(&tone(), factor);
            assert!((stretched.duration_s() - 2.0 / factor).abs() < 0.002);
            assert!((frequency(&stretched) - 440.0).abs() < 4.0, "{} at {factor}", frequency(&stretched));
        }
        let short = Audio { rate_hz: 16_000, samples: vec![0.1; 100] };
        assert_eq!(change_tempo(&short, 2.0).samples.len(), 50);
    }
}
