//! The stand-in synthesiser: a buzz shaped by two formants for each vowel, bursts of noise for the other letters.

use std::f64::consts::TAU;

use fonex_core::audio::{Audio, clip_samples};
use fonex_core::stats::stream;
use rand::RngExt;
use serde::{Deserialize, Serialize};

/// How a stand-in voice behaves.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct SpeakProfile {
    /// Fundamental frequency in hertz.
    pub pitch_hz: f64,
    /// Words of five letters a minute.
    pub words_per_minute: f64,
    /// Gain over a peak of half of full scale, in decibels; above 6 it clips.
    pub gain_db: f64,
    /// Time taken before work begins, in milliseconds.
    pub start_ms: f64,
    /// Time taken for each second of audio made, in seconds.
    pub rtf: f64,
    /// Reported as the engine's version.
    pub build: String,
}

impl Default for SpeakProfile {
    fn default() -> Self {
        Self {
            pitch_hz: 160.0,
            words_per_minute: 160.0,
            gain_db: 0.0,
            start_ms: 8.0,
            rtf: 0.01,
            build: String::new(),
        }
    }
}

/// What a stand-in synthesiser answers.
#[derive(Debug, Clone, PartialEq)]
pub struct Speaking {
    /// The sound, 22,050 samples a second.
    pub audio: Audio,
    /// How long it takes, in seconds.
    pub takes_s: f64,
}

const RATE_HZ: u32 = 22_050;
/// First and second formant of the five vowels, in hertz, after Peterson and Barney (1952), rounded.
const FORMANTS: [(char, f64, f64); 5] =
    [('a', 730.0, 1090.0), ('e', 530.0, 1840.0), ('i', 270.0, 2290.0), ('o', 570.0, 840.0), ('u', 300.0, 870.0)];

/// Speaks a text. The same profile, seed, name and text give the same sound.
#[must_use]
pub fn speak(profile: &SpeakProfile, seed: u64, name: &str, text: &str) -> Speaking {
    let mut random = stream(seed, &[name, text]);
    let letter_s = 60.0 / (profile.words_per_minute.max(20.0) * 6.0);
    let mut samples: Vec<f32> = Vec::new();
    let mut phase = 0.0;
    for letter in text.chars().flat_map(char::to_lowercase) {
        let seconds = letter_s * if matches!(letter, '.' | ',' | '!' | '?' | ';' | ':') { 2.0 } else { 1.0 };
        let length = (seconds * f64::from(RATE_HZ)) as usize;
        let formants = FORMANTS.iter().find(|(vowel, ..)| *vowel == base_letter(letter));
        for i in 0..length {
            let place = i as f64 / length as f64;
            let envelope = (place * std::f64::consts::PI).sin().sqrt();
            let sample = match formants {
                Some((_, first, second)) => {
                    phase += profile.pitch_hz * (1.0 + 0.04 * (place * TAU).sin()) / f64::from(RATE_HZ);
                    envelope * buzz(phase, profile.pitch_hz, *first, *second)
                }
                None if letter.is_alphanumeric() => envelope * 0.08 * random.random_range(-1.0..1.0),
                None => 0.0,
            };
            samples.push(sample as f32);
        }
    }
    let mut audio = Audio { rate_hz: RATE_HZ, samples };
    let peak = audio.samples.iter().fold(1e-9_f32, |peak, s| peak.max(s.abs()));
    audio.samples.iter_mut().for_each(|s| *s *= 0.5 / peak);
    clip_samples(&mut audio, profile.gain_db);
    let takes_s = profile.start_ms / 1e3 + profile.rtf * audio.duration_s();
    Speaking { audio, takes_s: (takes_s * random.random_range(0.9..1.2)).max(0.0) }
}

/// Harmonics of the pitch, each as strong as the formants let it be.
fn buzz(phase: f64, pitch_hz: f64, first: f64, second: f64) -> f64 {
    (1..=16)
        .map(|harmonic| {
            let frequency = pitch_hz * f64::from(harmonic);
            let near = |formant: f64, width: f64| (-((frequency - formant) / width).powi(2)).exp();
            (near(first, 180.0) + 0.5 * near(second, 260.0) + 0.05) * (TAU * phase * f64::from(harmonic)).sin()
        })
        .sum()
}

fn base_letter(letter: char) -> char {
    match letter {
        'ä' | 'à' | 'á' => 'a',
        'ö' | 'ó' => 'o',
        'ü' | 'ú' => 'u',
        'é' | 'è' => 'e',
        'y' => 'i',
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fonex_core::audio::measure;

    #[test]
    fn pace_and_clipping_are_as_the_profile_says() {
        let profile = SpeakProfile { words_per_minute: 120.0, ..SpeakProfile::default() };
        let text = "holds ".repeat(20);
        let spoken = speak(&profile, 1, "osier", text.trim_end());
        assert!((spoken.audio.duration_s() - 10.0).abs() < 0.2, "{}", spoken.audio.duration_s());
        assert_eq!(measure(&spoken.audio).clipped_share, 0.0);
        let loud = SpeakProfile { gain_db: 14.0, ..profile };
        assert!(measure(&speak(&loud, 1, "osier", &text).audio).clipped_share > 0.01);
    }
}
