//! Speech made for it: swells of a buzz with bursts of noise and silences, as words are.

use std::f64::consts::TAU;

use fonex_core::audio::{Audio, measure};
use fonex_core::speech::{SpeechMeasures, measure_speech};
use fonex_core::stats::Stream;
use rand::RngExt;

pub const RATE: usize = 16_000;

/// Words of one to three swells of a buzz with a burst of noise before, between silences; and how many swells there are.
pub fn spoken(random: &mut Stream, words: usize) -> (Vec<f32>, u32) {
    let mut samples = vec![0.0_f32; RATE / 5];
    let (mut phase, mut syllables) = (0.0, 0);
    for word in 0..words {
        for _ in 0..random.random_range(1..4) {
            syllables += 1;
            let (hz, length) = (random.random_range(90.0..220.0), random.random_range(1_900..4_200));
            let burst = random.random_range(200..600);
            for i in 0..length {
                phase += hz / RATE as f64;
                let swell = (std::f64::consts::PI * f64::from(i) / f64::from(length)).sin().sqrt();
                let buzz: f64 = (1..18).map(|h| (TAU * phase * f64::from(h)).cos() / f64::from(h)).sum();
                let hiss = if i < burst { 0.5 * (random.random::<f64>() - 0.5) } else { 0.0 };
                samples.push((0.12 * swell * (buzz + hiss)) as f32);
            }
        }
        let pause = if word % 4 == 3 { RATE / 3 } else { RATE / 12 };
        samples.extend(std::iter::repeat_n(0.0, pause));
    }
    samples.extend(std::iter::repeat_n(0.0, RATE / 4));
    samples.iter_mut().for_each(|s| *s += 4e-4 * (random.random::<f32>() - 0.5));
    (samples, syllables)
}

pub fn level_db(samples: &[f32]) -> f64 {
    10.0 * (samples.iter().map(|s| f64::from(s * s)).sum::<f64>() / samples.len() as f64).max(1e-12).log10()
}

/// A place inside a swell, behind another place.
pub fn loud_place(samples: &[f32], from: usize) -> usize {
    from + 200 + samples[from..].windows(400).position(|window| level_db(window) > -22.0).unwrap_or(0)
}

pub fn measured(samples: Vec<f32>) -> SpeechMeasures {
    let audio = Audio { rate_hz: RATE as u32, samples };
    measure_speech(&audio, &measure(&audio))
}
