//! Whether anybody speaks in a recording: stretches that are voiced and that move as speech does.

use super::{Audio, Correlation, decibels, power, resample};

/// What is looked at: the pitch and the first harmonics of a voice.
const RATE_HZ: u32 = 4_000;
const FRAME_S: f64 = 0.040;
const HOP_S: f64 = 0.020;
/// Pitch of people, from a low voice to a child.
const PITCH_HZ: std::ops::Range<f64> = 65.0..420.0;
/// Correlation of a frame with itself a period later from which it is voiced.
const VOICED: f64 = 0.6;
/// What it falls to before.
const FELL: f64 = 0.3;
/// Frames in a row, at least, that make a vowel.
const SHORTEST_VOWEL: usize = 3;
/// Longest stretch without a change of level that anybody sings or hums in speech.
const LONGEST_VOWEL: usize = 75;
/// Levels a vowel lies apart from another frame near it, in decibels.
const MOVES_DB: f64 = 3.0;

/// Seconds of vowels in a single short word.
pub const LEAST_VOICED_S: f64 = 0.06;

/// Seconds that are voiced and belong to vowels: three to 75 frames of 20 ms in a row, in which the level moves by 3 dB. A tone or a hum
/// lasts longer or does not move, and noise is not voiced.
///
/// Voicing is the peak of the normalised cross-correlation over lags of 65 to 420 Hz (Talkin, "A robust algorithm for pitch tracking",
/// 1995) at 4 kHz. Whispered speech is not found. Cost is linear, some 100 operations a sample.
#[must_use]
pub fn voiced_s(audio: &Audio) -> f64 {
    let Ok(Audio { samples, .. }) = resample(audio, RATE_HZ) else { return 0.0 };
    let rate = f64::from(RATE_HZ);
    let (frame, hop) = ((rate * FRAME_S) as usize, (rate * HOP_S) as usize);
    let lags = (rate / PITCH_HZ.end) as usize..=(rate / PITCH_HZ.start) as usize;
    let likeness = Correlation::new(&samples, frame);
    let frames: Vec<(bool, f64)> = (0..samples.len().saturating_sub(frame + lags.end()) / hop)
        .map(|at| {
            let start = at * hop;
            // A period ends where the sound has been unlike itself before: rumble is like itself for long.
            let mut fell = false;
            let voiced = (1..=*lags.end()).any(|lag| {
                let like = likeness.after(start, lag);
                fell |= like < FELL;
                fell && lags.contains(&lag) && like >= VOICED
            });
            (likeness.energy(start) > 0.0 && voiced, decibels(power(&samples[start..start + frame])))
        })
        .collect();
    let vowels = frames.chunk_by(|one, next| one.0 == next.0).filter(|run| run[0].0);
    let lasting = vowels.filter(|run| (SHORTEST_VOWEL..=LONGEST_VOWEL).contains(&run.len()) && moves(run));
    lasting.map(|run| run.len() as f64 * HOP_S).sum()
}

fn moves(run: &[(bool, f64)]) -> bool {
    let (low, high) = run.iter().fold((f64::MAX, f64::MIN), |(low, high), (_, db)| (low.min(*db), high.max(*db)));
    high - low >= MOVES_DB
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, noise};

    fn audio(seconds: f64, at: impl Fn(f64) -> f64) -> Audio {
        let rate_hz = 16_000;
        let samples = (0..(seconds * f64::from(rate_hz)) as usize).map(|n| at(n as f64 / f64::from(rate_hz)) as f32);
        Audio { rate_hz, samples: samples.collect() }
    }

    /// A pulse train of 120 Hz that swells three times a second, as syllables do.
    fn syllables(t: f64) -> f64 {
        let loud = (std::f64::consts::TAU * 3.0 * t).sin().max(0.0);
        let tone: f64 = (1..6).map(|harmonic| (std::f64::consts::TAU * 120.0 * f64::from(harmonic) * t).sin()).sum();
        0.1 * loud.powi(2) * tone
    }

    #[test]
    fn speech_is_told_from_noise_hum_tones_and_silence() {
        let rate_hz = 16_000;
        for colour in [NoiseColour::White, NoiseColour::Pink, NoiseColour::Wind] {
            for seed in 0..3 {
                let samples = noise(colour, rate_hz as usize * 5, rate_hz, seed);
                let found = voiced_s(&Audio { rate_hz, samples });
                assert!(found < 0.2, "{colour:?} {seed}: {found} s");
            }
        }
        let tone = |hz: f64| audio(5.0, move |t| 0.3 * (std::f64::consts::TAU * hz * t).sin());
        for hz in [50.0, 100.0, 150.0, 440.0, 1_000.0] {
            assert!(voiced_s(&tone(hz)) < 0.2, "{hz} Hz");
        }
        assert_eq!(voiced_s(&audio(5.0, |_| 0.0)), 0.0);
        assert_eq!(voiced_s(&audio(0.01, syllables)), 0.0);
        let spoken = voiced_s(&audio(5.0, syllables));
        assert!(spoken > 2.0, "{spoken}");
        // In noise as loud as itself.
        let hiss = noise(NoiseColour::White, rate_hz as usize * 5, rate_hz, 1);
        let mut mixed = audio(5.0, syllables);
        let scale = (power(&mixed.samples) / power(&hiss)).sqrt() as f32;
        mixed.samples.iter_mut().zip(&hiss).for_each(|(sample, hiss)| *sample += hiss * scale);
        assert!(voiced_s(&mixed) > 1.0, "{}", voiced_s(&mixed));
    }
}
