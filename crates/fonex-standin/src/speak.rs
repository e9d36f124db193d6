//! The stand-in synthesiser: letters become sounds, which a source and four resonances make audible (after Klatt, "Software for a
//! cascade/parallel formant synthesizer", 1980, much reduced). It is speech to every measure, and hardly to a listener.

use fonex_core::audio::{Audio, clip_samples};
use fonex_core::speech::Spoken;
use fonex_core::stats::{Stream, stream};
use rand::RngExt;
use serde::{Deserialize, Serialize};

use crate::sounds::{Sound, sounds_of};
use crate::spoil::{Spoiling, spoil};

/// How a stand-in voice behaves.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SpeakProfile {
    /// Fundamental frequency in hertz.
    pub pitch_hz: f64,
    /// How far the pitch moves, in semitones; 0 is a monotone.
    pub pitch_range_st: f64,
    /// Words of five letters a minute.
    pub words_per_minute: f64,
    /// Length of the vocal tract, against that of a middle voice: above 1 it sounds larger.
    pub size: f64,
    /// Reads every text as one in this language, whatever it is in: `en` or `de`.
    pub reads: String,
    /// Gain over a peak of half of full scale, in decibels; above 6 it clips.
    pub gain_db: f64,
    /// Leaves out the markup of texts that have some.
    pub ignores_markup: bool,
    /// What is wrong with its audio.
    pub faults: Vec<Spoiling>,
    /// In which share of its answers.
    pub fault_share: f64,
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
            pitch_range_st: 8.0,
            words_per_minute: 160.0,
            size: 1.0,
            reads: String::new(),
            gain_db: 0.0,
            ignores_markup: false,
            faults: Vec::new(),
            fault_share: 1.0,
            start_ms: 8.0,
            rtf: 0.01,
            build: String::new(),
        }
    }
}

impl SpeakProfile {
    /// The same with the settings of a variant: `pace`, times its own, and `pitch`, semitones above its own. Others are not known to a stand-in.
    #[must_use]
    pub fn set(self, setting: impl Fn(&str) -> Option<f64>) -> Self {
        let pace = setting("pace").filter(|pace| *pace > 0.0).unwrap_or(1.0);
        let pitch_st = setting("pitch").unwrap_or(0.0);
        Self {
            words_per_minute: self.words_per_minute * pace,
            pitch_hz: self.pitch_hz * 2_f64.powf(pitch_st / 12.0),
            ..self
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

/// Speaks a text. The same profile, seed, name and text give the same sound.
#[must_use]
pub fn speak(profile: &SpeakProfile, seed: u64, name: &str, text: &str, lang: Option<&str>) -> Speaking {
    let plain = Spoken { text: text.to_owned(), rate: 1.0, pitch_st: 0.0, level_db: 0.0, break_s: 0.0 };
    speak_stretches(profile, seed, name, &[plain], lang)
}

/// The same of a text with markup.
#[must_use]
pub fn speak_stretches(
    profile: &SpeakProfile,
    seed: u64,
    name: &str,
    stretches: &[Spoken],
    lang: Option<&str>,
) -> Speaking {
    let text: Vec<&str> = stretches.iter().map(|stretch| stretch.text.as_str()).collect();
    let mut random = stream(seed, &[name, &text.join(" ")]);
    let reads = if profile.reads.is_empty() { lang.unwrap_or("en") } else { &profile.reads };
    let mut voice = Voice { profile, phase: 0.0, states: [[0.0; 2]; FORMANTS], samples: Vec::new() };
    let mut levels: Vec<(usize, f64)> = Vec::new();
    voice.silence(EDGE_S);
    for stretch in stretches {
        let asked = if profile.ignores_markup {
            Spoken { rate: 1.0, pitch_st: 0.0, level_db: 0.0, break_s: 0.0, ..stretch.clone() }
        } else {
            stretch.clone()
        };
        voice.say(&asked, reads, &mut random);
        voice.silence(asked.break_s);
        levels.push((voice.samples.len(), asked.level_db));
    }
    voice.silence(EDGE_S);
    if let Some((to, _)) = levels.last_mut() {
        *to = voice.samples.len();
    }
    let mut audio = Audio { rate_hz: RATE_HZ, samples: voice.samples };
    let peak = audio.samples.iter().fold(1e-9_f32, |peak, s| peak.max(s.abs()));
    let mut from = 0;
    for (to, level_db) in levels {
        let gain = 0.5 / peak * 10_f32.powf(level_db as f32 / 20.0);
        audio.samples[from..to].iter_mut().for_each(|s| *s = (*s * gain).clamp(-1.0, 1.0));
        from = to;
    }
    clip_samples(&mut audio, profile.gain_db);
    fade(&mut audio);
    if random.random_bool(profile.fault_share.clamp(0.0, 1.0)) {
        profile.faults.iter().for_each(|fault| spoil(&mut audio, *fault, &mut random));
    }
    let takes_s = profile.start_ms / 1e3 + profile.rtf * audio.duration_s();
    Speaking { audio, takes_s: (takes_s * random.random_range(0.9..1.2)).max(0.0) }
}

/// A voice begins and ends softly.
fn fade(audio: &mut Audio) {
    let edge = (EDGE_S * f64::from(RATE_HZ)) as usize;
    let end = edge - DIES_AWAY;
    let length = (RATE_HZ as usize / 25).min(audio.samples.len().saturating_sub(2 * edge));
    for at in 0..length {
        let gain = at as f32 / length as f32;
        audio.samples[edge + at] *= (gain * 4.0).min(1.0);
        let from_end = audio.samples.len() - 1 - end - at;
        audio.samples[from_end] *= gain;
    }
}

/// Samples in which a sound dies away.
const DIES_AWAY: usize = (RATE_HZ / 50) as usize;
/// Silence before and after what is spoken, in seconds.
pub const EDGE_S: f64 = 0.15;

/// Resonances of the vocal tract.
const FORMANTS: usize = 4;
/// Their widths in hertz, and the fourth's place.
const WIDTHS_HZ: [f64; FORMANTS] = [70.0, 90.0, 130.0, 200.0];
const FOURTH_HZ: f64 = 3_500.0;

struct Voice<'p> {
    profile: &'p SpeakProfile,
    phase: f64,
    states: [[f64; 2]; FORMANTS],
    samples: Vec<f32>,
}

impl Voice<'_> {
    fn say(&mut self, stretch: &Spoken, reads: &str, random: &mut Stream) {
        // A word of five letters and the space behind it are six.
        let letter_s = 60.0 / (self.profile.words_per_minute.max(20.0) * stretch.rate.clamp(0.2, 5.0) * 6.0);
        let sounds = sounds_of(&stretch.text, reads);
        let signs = stretch.text.chars().filter(|c| c.is_alphanumeric() || c.is_whitespace()).count() as f64;
        let weights: f64 = sounds.iter().filter(|sound| !sound.is_pause()).map(|sound| sound.weight).sum();
        let unit_s = if weights > 0.0 { letter_s * signs / weights } else { letter_s };
        let range_st = self.profile.pitch_range_st;
        let base_hz = self.profile.pitch_hz * 2_f64.powf(stretch.pitch_st / 12.0);
        let mut accent_st = 0.0;
        let phrases: Vec<&[Sound]> = sounds.split_inclusive(Sound::is_pause).collect();
        for phrase in phrases {
            let count = phrase.len().max(1) as f64;
            for (at, sound) in phrase.iter().enumerate() {
                if sound.begins_word {
                    accent_st = range_st * random.random_range(0.0..0.7);
                }
                // Falls over the phrase, rises on words, falls away on each of them.
                let place = at as f64 / count;
                let pitch_st = range_st * (0.35 - 0.9 * place) + accent_st;
                accent_st *= 0.75;
                if sound.is_pause() {
                    self.silence(sound.weight * letter_s * PAUSE_LETTERS);
                } else {
                    self.sound(sound, sound.weight * unit_s, base_hz * 2_f64.powf(pitch_st / 12.0), random);
                }
            }
        }
    }

    fn silence(&mut self, seconds: f64) {
        let length = (seconds.clamp(0.0, 60.0) * f64::from(RATE_HZ)) as usize;
        self.samples.extend(std::iter::repeat_n(0.0, length));
        // What still sounds dies away over a fiftieth of a second: cut at once, it would click.
        if let Some(last) = self.samples.len().checked_sub(length + 1).map(|at| self.samples[at]) {
            let from = self.samples.len() - length;
            for (at, sample) in self.samples[from..].iter_mut().take(DIES_AWAY).enumerate() {
                let left = 1.0 - at as f32 / DIES_AWAY as f32;
                *sample = last * left * left * left;
            }
        }
        self.states = [[0.0; 2]; FORMANTS];
    }

    /// One sound: a source, voiced or noise, through the resonances.
    fn sound(&mut self, sound: &Sound, seconds: f64, pitch_hz: f64, random: &mut Stream) {
        let rate = f64::from(RATE_HZ);
        let length = (seconds * rate) as usize;
        let places = [sound.formants_hz[0], sound.formants_hz[1], sound.formants_hz[2], FOURTH_HZ];
        let coefficients: Vec<[f64; 3]> = places
            .iter()
            .zip(WIDTHS_HZ)
            .map(|(hz, width)| {
                let hz = (hz / self.profile.size.clamp(0.5, 2.0)).min(0.45 * rate);
                // Noise in a narrow resonance would be a tone.
                let width = if sound.voiced < 0.05 { 8.0 * width } else { width };
                let radius = (-std::f64::consts::PI * width / rate).exp();
                let b = 2.0 * radius * (std::f64::consts::TAU * hz / rate).cos();
                let c = -radius * radius;
                [1.0 - b - c, b, c]
            })
            .collect();
        for i in 0..length {
            let place = (i as f64 + 0.5) / length as f64;
            // Sounds join softly; a stop is silent first and bursts then.
            let envelope = if sound.is_stop {
                if place < 0.6 {
                    0.0
                } else {
                    // The burst takes a few thousandths of a second to come up: it is no click.
                    let risen = (place - 0.6) * seconds / 0.010;
                    risen.min(1.0) * (-(place - 0.6) * 5.0).exp()
                }
            } else {
                (place.min(1.0 - place) * 6.0).min(1.0)
            };
            self.phase += pitch_hz / rate;
            self.phase -= self.phase.floor();
            // An opening that closes at once: most of the sound comes from the closing (Rosenberg 1971).
            let opening =
                if self.phase < 0.6 { (self.phase / 0.6).powi(2) * (1.0 - self.phase / 0.6) * 6.0 } else { 0.0 };
            let noise = random.random_range(-1.0..1.0);
            let source = envelope * (sound.voiced * (opening - 0.3) + sound.noise * noise);
            let mut sample = source;
            for ([a, b, c], state) in coefficients.iter().zip(&mut self.states) {
                let resonant = a * sample + b * state[0] + c * state[1];
                *state = [resonant, state[0]];
                sample = resonant;
            }
            // Noise made at the teeth does not pass the tract.
            self.samples.push((sample + envelope * sound.hiss * noise) as f32);
        }
    }
}

/// A comma's pause in letters; that of a full stop is longer by its weight.
const PAUSE_LETTERS: f64 = 5.0;

#[cfg(test)]
mod tests {
    use super::*;
    use fonex_core::audio::measure;
    use fonex_core::speech::{measure_speech, read_markup};

    const TEXT: &str =
        "The cabin holds at the upper station, because the wind is rising. Please remain seated until it moves on.";

    #[test]
    fn pace_and_clipping_are_as_the_profile_says() {
        let profile = SpeakProfile { words_per_minute: 120.0, ..SpeakProfile::default() };
        let text = "holds ".repeat(20);
        let spoken = speak(&profile, 1, "osier", text.trim_end(), None);
        assert!((spoken.audio.duration_s() - 2.0 * EDGE_S - 10.0).abs() < 0.2, "{}", spoken.audio.duration_s());
        assert_eq!(measure(&spoken.audio).clipped_share, 0.0);
        let loud = SpeakProfile { gain_db: 14.0, ..profile };
        assert!(measure(&speak(&loud, 1, "osier", &text, None).audio).clipped_share > 0.01);
    }

    #[test]
    fn what_it_speaks_is_speech_of_the_planted_pitch() {
        for pitch_hz in [110.0, 160.0, 220.0] {
            let profile = SpeakProfile { pitch_hz, ..SpeakProfile::default() };
            let audio = speak(&profile, 1, "osier", TEXT, Some("en")).audio;
            let speech = measure_speech(&audio, &measure(&audio));
            let pitch = speech.pitch.unwrap();
            assert!((12.0 * (pitch.median_hz / pitch_hz).log2()).abs() < 2.0, "{pitch_hz}: {pitch:?}");
            assert!(pitch.voiced > 0.3 && (5.0..14.0).contains(&pitch.range_st), "{pitch:?}");
            assert_eq!(speech.faults.names(), [""; 0], "{speech:?}");
            assert_eq!(speech.pauses.count, 2, "{speech:?}");
            // 27 syllables as people say it; this voice says every vowel that is written.
            assert!((24..=42).contains(&speech.syllables), "{}", speech.syllables);
        }
        let flat = SpeakProfile { pitch_range_st: 0.0, ..SpeakProfile::default() };
        let audio = speak(&flat, 1, "osier", TEXT, None).audio;
        assert!(measure_speech(&audio, &measure(&audio)).in_words().contains(&"flat"));
    }

    #[test]
    fn markup_is_spoken_or_left_out() {
        let ssml = format!(
            "<speak><prosody rate=\"slow\" pitch=\"high\">{TEXT}</prosody><break time=\"900ms\"/>On.</speak>"
        );
        let markup = read_markup(&ssml).unwrap();
        let of = |ignores_markup| {
            let profile = SpeakProfile { ignores_markup, ..SpeakProfile::default() };
            let audio = speak_stretches(&profile, 1, "osier", &markup.stretches, None).audio;
            measure_speech(&audio, &measure(&audio))
        };
        let (with, without) = (of(false), of(true));
        assert!(with.speaking_s > 1.2 * without.speaking_s && with.pauses.longest_s > 0.85);
        assert!(with.pitch.unwrap().median_hz > 1.1 * without.pitch.unwrap().median_hz);
    }
}
