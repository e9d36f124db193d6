//! The stand-in recogniser.

use std::collections::BTreeMap;

use fonex_core::audio::{Audio, measure};
use fonex_core::stats::stream;
use fonex_core::text::Label;
use fonex_core::{Clip, Heard, HeardWord};
use rand::RngExt;
use serde::{Deserialize, Serialize};

use crate::confusions::{invented, mistaken};
use crate::misread::is_misread;

/// How a stand-in recogniser behaves.
///
/// A word goes wrong with probability `base_errors + errors_per_db x (quiet_db - SNR)`, the second part only below
/// `quiet_db`, and `errors_per_clipped` for each percent of clipped samples on top; of wrong words 62 % are mistaken for another, 25 % dropped and 13 % followed by an invented one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct HearProfile {
    /// Share of words that go wrong in clean audio.
    pub base_errors: f64,
    /// Further share for each decibel of signal-to-noise ratio below `quiet_db`.
    pub errors_per_db: f64,
    /// Further share for each percent of the samples that is clipped.
    pub errors_per_clipped: f64,
    /// Further share where the sound is nearer to how the stand-in voice would read the label in another language than the clip's: what a
    /// voice says that reads another language is hard to understand.
    pub misread_errors: f64,
    /// Signal-to-noise ratio above which noise does no harm, in decibels.
    pub quiet_db: f64,
    /// By how much every word is put too late, in milliseconds.
    pub offset_ms: f64,
    /// By how much more for each minute of the recording.
    pub drift_ms_per_min: f64,
    /// Largest random shift of a word to either side, in milliseconds.
    pub jitter_ms: f64,
    /// Time taken before work begins, in milliseconds.
    pub start_ms: f64,
    /// Time taken for each second of audio, in seconds.
    pub rtf: f64,
    /// How far confidences are pushed from honest (0) towards certain (1).
    pub overconfidence: f64,
    /// Whether the text comes with capitals and punctuation.
    pub punctuates: bool,
    /// Which build answers; reported as the engine's version.
    pub build: String,
    /// What differs from build to build.
    pub builds: BTreeMap<String, BuildChange>,
}

/// What one build does differently.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct BuildChange {
    /// Replaces `base_errors`.
    pub base_errors: Option<f64>,
    /// Replaces `errors_per_db`.
    pub errors_per_db: Option<f64>,
}

impl Default for HearProfile {
    fn default() -> Self {
        Self {
            base_errors: 0.05,
            errors_per_db: 0.01,
            errors_per_clipped: 0.0,
            misread_errors: 0.0,
            quiet_db: 25.0,
            offset_ms: 0.0,
            drift_ms_per_min: 0.0,
            jitter_ms: 15.0,
            start_ms: 5.0,
            rtf: 0.01,
            overconfidence: 0.0,
            punctuates: true,
            build: String::new(),
            builds: BTreeMap::new(),
        }
    }
}

impl HearProfile {
    /// The chance that a word goes wrong at a signal-to-noise ratio, none of which stands for no measurable noise, and with a share of
    /// clipped samples.
    #[must_use]
    pub fn error_chance(&self, snr_db: Option<f64>, clipped_share: f64) -> f64 {
        let change = self.builds.get(&self.build).copied().unwrap_or_default();
        let base = change.base_errors.unwrap_or(self.base_errors);
        let per_db = change.errors_per_db.unwrap_or(self.errors_per_db);
        let short_db = snr_db.map_or(0.0, |snr| (self.quiet_db - snr).max(0.0));
        (base + per_db * short_db + self.errors_per_clipped * clipped_share * 100.0).clamp(0.0, 0.95)
    }
}

/// What a stand-in recogniser answers.
#[derive(Debug, Clone, PartialEq)]
pub struct Hearing {
    /// The result.
    pub heard: Heard,
    /// How long it takes, in seconds.
    pub takes_s: f64,
}

/// Hears a clip. `name` and `model` keep engines apart: the same seed, names, profile and audio give the same answer.
/// Models of one engine stumble over much the same words, as real ones do.
///
/// # Panics
/// Never for a clip whose label has been read without error; a broken label counts as no words.
#[must_use]
pub fn hear(profile: &HearProfile, seed: u64, name: &str, model: &str, clip: &Clip, audio: &Audio) -> Hearing {
    let text = Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
    let written: Vec<&str> = text.split_whitespace().collect();
    let measures = measure(audio);
    let misread = profile.misread_errors > 0.0 && is_misread(clip, &text, audio, &measures);
    let misread = if misread { profile.misread_errors } else { 0.0 };
    let chance = (profile.error_chance(measures.snr_db, measures.clipped_share) + misread).min(0.95);
    let mut words: Vec<HeardWord> = Vec::with_capacity(written.len());
    for (index, word) in written.iter().enumerate() {
        let place = index.to_string();
        let mut own = stream(seed, &[name, model, &profile.build, &clip.id, &place]);
        let mut shared = stream(seed, &[name, &clip.id, &place]);
        // One time in four a model decides for itself; else the engine's family decides.
        let difficulty: f64 = if own.random_bool(0.25) { own.random() } else { shared.random() };
        let (kind, choice): (f64, f64) = (shared.random(), shared.random());
        let wrong = difficulty < chance;
        let (start, end) = times(profile, clip, audio, index, written.len(), own.random_range(-1.0..=1.0));
        let surface = if profile.punctuates { (*word).to_owned() } else { bare(word) };
        let confidence = |right: bool| confidence(profile, right, chance, choice);
        let mut push = |text: String, end: f64, right: bool| {
            words.push(HeardWord { text, start: Some(start), end: Some(end), confidence: Some(confidence(right)) });
        };
        match (wrong, kind) {
            (false, _) => push(surface, end, true),
            (true, ..0.62) => push(mistaken(word, choice), end, false),
            (true, 0.62..0.87) => {}
            (true, _) => {
                push(surface, end, true);
                push(invented(choice).to_owned(), end, false);
            }
        }
    }
    let heard_text = words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    let mut pace = stream(seed, &[name, model, &clip.id, "pace"]);
    let takes_s = (profile.start_ms / 1e3 + profile.rtf * audio.duration_s()) * pace.random_range(0.85..1.25);
    Hearing { heard: Heard { text: heard_text, words, ..Heard::default() }, takes_s: takes_s.max(0.0) }
}

fn bare(word: &str) -> String {
    word.chars().filter(|c| c.is_alphanumeric() || *c == '\'').flat_map(char::to_lowercase).collect()
}

/// The labelled times where there are any, else an even spread, moved as the profile says.
fn times(profile: &HearProfile, clip: &Clip, audio: &Audio, index: usize, words: usize, jitter: f64) -> (f64, f64) {
    let even = audio.duration_s() / words as f64;
    let (start, end) = match clip.words.get(index).filter(|_| clip.words.len() == words) {
        Some(word) => (word.start, word.end),
        None => (even * index as f64, even * (index + 1) as f64),
    };
    let late_s = (profile.offset_ms + profile.drift_ms_per_min * start / 60.0 + profile.jitter_ms * jitter) / 1e3;
    let rounded = |s: f64| ((s + late_s).max(0.0) * 1e3).round() / 1e3;
    (rounded(start), rounded(end))
}

fn confidence(profile: &HearProfile, right: bool, chance: f64, draw: f64) -> f64 {
    let honest = if right { 1.0 - 0.5 * chance - 0.12 * draw } else { 0.35 + 0.4 * draw };
    let pushed = honest + (1.0 - honest) * profile.overconfidence.clamp(0.0, 1.0);
    (pushed.clamp(0.0, 1.0) * 1e3).round() / 1e3
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::speak::{SpeakProfile, speak};
    use fonex_core::audio::{NoiseColour, add_noise, noise};

    fn clip(id: usize) -> Clip {
        let text = "the cabin holds at the upper pylon and the wind is rising over the ridge today".to_owned();
        Clip { id: format!("c{id}"), text, ..Clip::default() }
    }

    fn speech(snr_db: f64) -> Audio {
        let samples = (0..48_000).map(|i| if (i / 4_000) % 3 == 0 { 0.0 } else { (i as f32 * 0.2).sin() * 0.3 });
        let mut audio = Audio { rate_hz: 16_000, samples: samples.collect() };
        let hiss = noise(NoiseColour::White, audio.samples.len(), 16_000, 1);
        add_noise(&mut audio, &hiss, snr_db);
        audio
    }

    /// Share of words lost or changed over 200 clips.
    fn share_wrong(profile: &HearProfile, snr_db: f64) -> f64 {
        let audio = speech(snr_db);
        let (mut wrong, mut all) = (0, 0);
        for id in 0..200 {
            let clip = clip(id);
            let hearing = hear(profile, 7, "marl", "brook", &clip, &audio);
            let kept: Vec<&str> = hearing.heard.text.split(' ').collect();
            let said: Vec<&str> = clip.text.split(' ').collect();
            wrong += fonex_core::align::count_edits(&said, &kept).errors();
            all += said.len() as u64;
        }
        wrong as f64 / all as f64
    }

    #[test]
    fn errors_follow_the_profile_and_the_noise() {
        let profile =
            HearProfile { base_errors: 0.04, errors_per_db: 0.01, quiet_db: 25.0, ..HearProfile::default() };
        for snr_db in [40.0, 15.0, 5.0] {
            let expected = profile.error_chance(measure(&speech(snr_db)).snr_db, 0.0);
            let share = share_wrong(&profile, snr_db);
            assert!((share - expected).abs() < 0.02, "{share} for {expected} at {snr_db} dB");
        }
    }

    #[test]
    fn a_voice_that_reads_another_language_is_hardly_understood() {
        let profile = HearProfile { base_errors: 0.0, misread_errors: 0.6, ..HearProfile::default() };
        for (pitch_hz, size) in [(110.0, 1.08), (160.0, 1.0)] {
            for (reads, expected) in [("", 0.0..0.01), ("de", 0.45..0.75), ("en", 0.0..0.01)] {
                let voice = SpeakProfile { pitch_hz, size, reads: reads.to_owned(), ..SpeakProfile::default() };
                let (mut wrong, mut all) = (0.0, 0.0);
                for id in 0..12 {
                    let clip = Clip { lang: Some("en-GB".to_owned()), ..clip(id) };
                    let audio = speak(&voice, 1, "osier", &clip.text, clip.lang.as_deref()).audio;
                    let heard = hear(&profile, 1, "marl", "river", &clip, &audio).heard;
                    let (said, kept): (Vec<&str>, Vec<&str>) =
                        (clip.text.split(' ').collect(), heard.text.split_whitespace().collect());
                    wrong += fonex_core::align::count_edits(&said, &kept).errors() as f64;
                    all += said.len() as f64;
                }
                assert!(expected.contains(&(wrong / all)), "{reads} at {pitch_hz} Hz: {}", wrong / all);
            }
        }
    }

    #[test]
    fn the_same_seed_gives_the_same_answer_and_a_build_another() {
        let mut profile = HearProfile { base_errors: 0.3, ..HearProfile::default() };
        let audio = speech(30.0);
        let first = hear(&profile, 1, "marl", "river", &clip(1), &audio);
        assert_eq!(first, hear(&profile, 1, "marl", "river", &clip(1), &audio));
        profile.build = "w2".into();
        profile.builds.insert("w2".into(), BuildChange { base_errors: Some(0.0), errors_per_db: None });
        assert_eq!(hear(&profile, 1, "marl", "river", &clip(1), &audio).heard.text, clip(1).text);
    }
}
