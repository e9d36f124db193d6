//! Recipes that make clips harder in known ways: `noise=wind:5 telephone=a loss=3:repeat`.

use std::fmt;
use std::str::FromStr;

use rand::RngExt;
use thiserror::Error;

use crate::audio::{
    Audio, Concealment, Law, NoiseColour, ResampleError, active_level_db, add_noise, band_limit, change_speed,
    change_tempo, clip_samples, compand, lose_packets, noise, resample, reverberate,
};
use crate::stats::stream;
use crate::{Clip, TimedWord};

/// One step of a recipe.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum VaryStep {
    /// Noise at a signal-to-noise ratio over the active speech level, in decibels.
    Noise(NoiseKind, f64),
    /// A room: reverberation time in seconds, direct sound over the tail in decibels.
    Room(f64, f64),
    /// Only the band between two frequencies, in hertz.
    Band(f64, f64),
    /// A telephone: 300 to 3,400 Hz, 8,000 samples a second, companded.
    Telephone(Law),
    /// Lost packets, in per cent.
    Loss(f64, Concealment),
    /// Gain in decibels; what passes full scale is cut.
    Gain(f64),
    /// Speed with pitch, as a factor.
    Speed(f64),
    /// Speed without pitch, as a factor.
    Tempo(f64),
    /// Silence before and after, in seconds.
    Silence(f64, f64),
}

/// What kind of noise.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoiseKind {
    /// Made noise.
    Colour(NoiseColour),
    /// Other speakers of the corpus, talking at once.
    Babble,
}

/// The ways to write a step, for messages and help.
pub const STEP_FORMS: [&str; 10] = [
    "unchanged",
    "noise=white|pink|wind|babble:SNR_DB",
    "room=RT60_S[:DIRECT_DB]",
    "band=LOW_HZ:HIGH_HZ",
    "telephone=a|mu",
    "loss=PERCENT[:repeat|none]",
    "gain=DB",
    "speed=FACTOR",
    "tempo=FACTOR",
    "silence=BEFORE_S:AFTER_S",
];

/// A step that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the step \"{step}\" cannot be read: {why}")]
pub struct RecipeError {
    /// The step as written.
    pub step: String,
    /// What is wrong with it.
    pub why: &'static str,
}

/// Steps in the order in which they are done.
#[derive(Debug, Clone, PartialEq)]
pub struct Recipe {
    steps: Vec<VaryStep>,
    written: String,
}

impl fmt::Display for Recipe {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.written)
    }
}

impl FromStr for Recipe {
    type Err = RecipeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let words: Vec<&str> = text.split_whitespace().collect();
        if words.is_empty() {
            return Err(RecipeError { step: text.to_owned(), why: "the recipe is empty" });
        }
        if words == [Self::UNCHANGED] {
            return Ok(Self { steps: Vec::new(), written: words.join(" ") });
        }
        let steps = words.iter().map(|word| read_step(word)).collect::<Result<_, _>>()?;
        Ok(Self { steps, written: words.join(" ") })
    }
}

fn read_step(step: &str) -> Result<VaryStep, RecipeError> {
    let failed = |why| RecipeError { step: step.to_owned(), why };
    let (name, rest) = step.split_once('=').ok_or_else(|| failed("there is no \"=\""))?;
    let (first, second) = rest.split_once(':').map_or((rest, None), |(first, second)| (first, Some(second)));
    let number = |text: &str, low: f64, high: f64, why: &'static str| {
        text.parse::<f64>().ok().filter(|value| (low..=high).contains(value)).ok_or_else(|| failed(why))
    };
    let needed = second.ok_or_else(|| failed("its second value is missing"));
    Ok(match name {
        "noise" => {
            let kind = match first {
                "white" => NoiseKind::Colour(NoiseColour::White),
                "pink" => NoiseKind::Colour(NoiseColour::Pink),
                "wind" => NoiseKind::Colour(NoiseColour::Wind),
                "babble" => NoiseKind::Babble,
                _ => return Err(failed("the noise is none of white, pink, wind, babble")),
            };
            VaryStep::Noise(kind, number(needed?, -30.0, 80.0, "the ratio is no number from -30 to 80 dB")?)
        }
        "room" => VaryStep::Room(
            number(first, 0.05, 10.0, "the reverberation time is no number from 0.05 to 10 s")?,
            number(second.unwrap_or("0"), -30.0, 40.0, "the direct sound is no number from -30 to 40 dB")?,
        ),
        "band" => {
            let (low, high) =
                (number(first, 0.0, 1e5, "not a frequency")?, number(needed?, 1.0, 1e5, "not a frequency")?);
            if low >= high {
                return Err(failed("the low edge is not below the high one"));
            }
            VaryStep::Band(low, high)
        }
        "telephone" => VaryStep::Telephone(match first {
            "a" => Law::A,
            "mu" => Law::Mu,
            _ => return Err(failed("the law is neither a nor mu")),
        }),
        "loss" => VaryStep::Loss(
            number(first, 0.0, 90.0, "the share is no number from 0 to 90 per cent")?,
            match second {
                None | Some("none") => Concealment::None,
                Some("repeat") => Concealment::Repeat,
                Some(_) => return Err(failed("the concealment is neither none nor repeat")),
            },
        ),
        "gain" => VaryStep::Gain(number(first, -90.0, 90.0, "the gain is no number from -90 to 90 dB")?),
        "speed" => VaryStep::Speed(number(first, 0.25, 4.0, "the factor is no number from 0.25 to 4")?),
        "tempo" => VaryStep::Tempo(number(first, 0.25, 4.0, "the factor is no number from 0.25 to 4")?),
        "silence" => VaryStep::Silence(
            number(first, 0.0, 600.0, "the silence is no number from 0 to 600 s")?,
            number(needed?, 0.0, 600.0, "the silence is no number from 0 to 600 s")?,
        ),
        _ => return Err(failed("there is no such step")),
    })
}

/// A clip after a recipe.
#[derive(Debug, Clone, PartialEq)]
pub struct Varied {
    /// The sound.
    pub audio: Audio,
    /// The labelled words with their times carried through.
    pub words: Vec<TimedWord>,
    /// The labelled segments with their times carried through.
    pub segments: Vec<TimedWord>,
    /// The signal-to-noise ratio reached by the last noise, measured on the samples.
    pub snr_db: Option<f64>,
    /// The share of packets lost by the last loss.
    pub lost: Option<f64>,
}

impl Recipe {
    /// The recipe that changes nothing: what others are compared with.
    pub const UNCHANGED: &str = "unchanged";

    /// Where the recipe stands on curves: for each of its steps with a number, the curve (the recipe with `*` in the place of the
    /// number), what the number is, and the number itself.
    #[must_use]
    pub fn on_curves(&self) -> Vec<(String, &'static str, f64)> {
        let words: Vec<&str> = self.written.split(' ').collect();
        let place = |(at, step): (usize, &VaryStep)| {
            // Which part of the step holds the number, what it is and the number.
            let (part, axis, value) = match *step {
                VaryStep::Noise(_, snr_db) => (1, "signal-to-noise ratio, dB", snr_db),
                VaryStep::Room(rt60_s, _) => (0, "reverberation time, s", rt60_s),
                VaryStep::Loss(percent, _) => (0, "packets lost, %", percent),
                VaryStep::Gain(db) => (0, "gain, dB", db),
                VaryStep::Speed(factor) | VaryStep::Tempo(factor) => (0, "speed, as a factor", factor),
                VaryStep::Band(_, high_hz) => (1, "upper edge of the band, Hz", high_hz),
                VaryStep::Telephone(_) | VaryStep::Silence(..) => return None,
            };
            let (name, values) = words.get(at)?.split_once('=')?;
            let parts: Vec<&str> =
                values.split(':').enumerate().map(|(n, text)| if n == part { "*" } else { text }).collect();
            let mut curve: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
            curve[at] = format!("{name}={}", parts.join(":"));
            Some((curve.join(" "), axis, value))
        };
        // Distance from the microphone is the second number of a room.
        let distance = self.steps.iter().enumerate().filter_map(|(at, step)| match *step {
            VaryStep::Room(_, direct_db) => {
                let (room, _) = words.get(at)?.split_once(':')?;
                let mut curve: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
                curve[at] = format!("{room}:*");
                Some((curve.join(" "), "direct sound over the room's, dB", direct_db))
            }
            _ => None,
        });
        self.steps.iter().enumerate().filter_map(place).chain(distance).collect()
    }

    /// The steps.
    #[must_use]
    pub fn steps(&self) -> &[VaryStep] {
        &self.steps
    }

    /// Whether it needs other clips to talk in the background.
    #[must_use]
    pub fn needs_babble(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, VaryStep::Noise(NoiseKind::Babble, _)))
    }

    /// Varies a clip. `others` are clips for babble. The same seed, recipe and clip give the same bytes. When the
    /// result would pass full scale other than by `gain`, all of it is lowered, which keeps every ratio.
    ///
    /// # Errors
    /// When a rate cannot be changed.
    pub fn apply(&self, audio: &Audio, clip: &Clip, others: &[Audio], seed: u64) -> Result<Varied, ResampleError> {
        let (words, segments) = (clip.words.clone(), clip.segments.clone());
        let mut varied = Varied { audio: audio.clone(), words, segments, snr_db: None, lost: None };
        for (place, step) in self.steps.iter().enumerate() {
            let seed: u64 = stream(seed, &[&clip.id, &self.written, &place.to_string()]).random();
            varied.apply_step(*step, others, seed)?;
            let peak = varied.audio.samples.iter().fold(0.0_f32, |peak, s| peak.max(s.abs()));
            if peak > 1.0 {
                varied.audio.samples.iter_mut().for_each(|s| *s *= 0.98 / peak);
            }
        }
        Ok(varied)
    }
}

impl Varied {
    fn apply_step(&mut self, step: VaryStep, others: &[Audio], seed: u64) -> Result<(), ResampleError> {
        let audio = &mut self.audio;
        match step {
            VaryStep::Noise(kind, snr_db) => {
                let (length, rate_hz) = (audio.samples.len(), audio.rate_hz);
                let samples = match kind {
                    NoiseKind::Colour(colour) => noise(colour, length, rate_hz, seed),
                    NoiseKind::Babble => babble(others, length, rate_hz, seed)?,
                };
                let clean = audio.clone();
                add_noise(audio, &samples, snr_db);
                self.snr_db = reached_snr(&clean, audio);
            }
            VaryStep::Room(rt60_s, direct_db) => reverberate(audio, rt60_s, direct_db, seed),
            VaryStep::Band(low_hz, high_hz) => band_limit(audio, low_hz, high_hz),
            VaryStep::Telephone(law) => {
                band_limit(audio, 300.0, 3400.0);
                *audio = resample(audio, 8_000)?;
                compand(audio, law);
            }
            VaryStep::Loss(percent, concealment) => {
                self.lost = Some(lose_packets(audio, percent / 100.0, concealment, seed));
            }
            VaryStep::Gain(db) => clip_samples(audio, db),
            VaryStep::Speed(factor) => {
                *audio = change_speed(audio, factor)?;
                self.move_words(|s| s / factor);
            }
            VaryStep::Tempo(factor) => {
                *audio = change_tempo(audio, factor);
                self.move_words(|s| s / factor);
            }
            VaryStep::Silence(before_s, after_s) => {
                let silence = |seconds: f64| vec![0.0; (seconds * f64::from(audio.rate_hz)).round() as usize];
                audio.samples = [silence(before_s), std::mem::take(&mut audio.samples), silence(after_s)].concat();
                self.move_words(|s| s + before_s);
            }
        }
        Ok(())
    }

    fn move_words(&mut self, moved: impl Fn(f64) -> f64) {
        let rounded = |s: f64| (moved(s) * 1e4).round() / 1e4;
        for word in self.words.iter_mut().chain(&mut self.segments) {
            (word.start, word.end) = (rounded(word.start), rounded(word.end));
        }
    }
}

/// Active level of the clean clip over the power of what was added to it.
fn reached_snr(clean: &Audio, noisy: &Audio) -> Option<f64> {
    let added = clean.samples.iter().zip(&noisy.samples).map(|(a, b)| f64::from(b - a).powi(2)).sum::<f64>();
    let added_db = 10.0 * (added / clean.samples.len().max(1) as f64).log10();
    active_level_db(clean).map(|active| active - added_db).filter(|snr| snr.is_finite())
}

/// Voices talking at once.
const BABBLE_VOICES: usize = 6;

/// Other clips, drawn and started at random, each at the same level, repeated to the length.
fn babble(others: &[Audio], length: usize, rate_hz: u32, seed: u64) -> Result<Vec<f32>, ResampleError> {
    let mut random = stream(seed, &["babble"]);
    let mut mixed = vec![0.0_f32; length];
    for _ in 0..BABBLE_VOICES.min(others.len() * 3) {
        let voice = resample(&others[random.random_range(0..others.len())], rate_hz)?;
        let Some(level_db) = active_level_db(&voice) else { continue };
        let gain = 10_f64.powf((-20.0 - level_db) / 20.0) as f32;
        let start = random.random_range(0..voice.samples.len());
        let talking = voice.samples.iter().cycle().skip(start);
        mixed.iter_mut().zip(talking).for_each(|(m, s)| *m += gain * s);
    }
    Ok(mixed)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn speech() -> Audio {
        let tone = |i: usize| if (i / 4_000_usize).is_multiple_of(3) { 0.0 } else { (i as f32 * 0.2).sin() * 0.3 };
        Audio { rate_hz: 16_000, samples: (0..48_000).map(tone).collect() }
    }

    fn vary(recipe: &str) -> Varied {
        let words = vec![TimedWord { text: "hold".into(), start: 0.5, end: 1.0 }];
        let recipe: Recipe = recipe.parse().unwrap();
        recipe.apply(&speech(), &Clip { words, ..Clip::default() }, &[speech(), speech()], 3).unwrap()
    }

    #[test]
    fn a_recipe_stands_on_a_curve_for_each_of_its_numbers() {
        let of = |text: &str| text.parse::<Recipe>().unwrap().on_curves();
        let curves = |text: &str| of(text).into_iter().map(|(curve, _, x)| (curve, x)).collect::<Vec<_>>();
        assert_eq!(curves("unchanged"), []);
        assert_eq!(curves("noise=wind:-5"), [("noise=wind:*".to_owned(), -5.0)]);
        assert_eq!(curves("telephone=a loss=3:repeat"), [("telephone=a loss=*:repeat".to_owned(), 3.0)]);
        assert_eq!(curves("room=0.6:3"), [("room=*:3".to_owned(), 0.6), ("room=0.6:*".to_owned(), 3.0)]);
        assert_eq!(
            curves("noise=babble:5 speed=1.2"),
            [("noise=* speed=1.2".replace('*', "babble:*"), 5.0), ("noise=babble:5 speed=*".to_owned(), 1.2)]
        );
        assert!("unchanged noise=wind:3".parse::<Recipe>().is_err(), "unchanged stands alone");
    }

    #[test]
    fn stated_ratios_are_reached() {
        for kind in ["white", "pink", "wind", "babble"] {
            for snr_db in [-5.0, 5.0, 20.0] {
                let reached = vary(&format!("noise={kind}:{snr_db}")).snr_db.unwrap();
                assert!((reached - snr_db).abs() < 0.05, "{kind} {reached} for {snr_db}");
            }
        }
        let loud = vary("gain=9 noise=white:-10");
        assert!(loud.audio.samples.iter().all(|s| s.abs() <= 1.0));
    }

    #[test]
    fn label_times_go_with_the_sound() {
        let word = |recipe: &str| {
            let varied = vary(recipe);
            (varied.words[0].start, varied.words[0].end, (varied.audio.duration_s() * 100.0).round() / 100.0)
        };
        assert_eq!(word("speed=1.25"), (0.4, 0.8, 2.4));
        assert_eq!(word("tempo=0.5"), (1.0, 2.0, 6.0));
        assert_eq!(word("silence=0.5:1 speed=2"), (0.5, 0.75, 2.25));
        assert_eq!(word("noise=pink:10 room=0.4:3 telephone=mu loss=5:repeat band=200:3000"), (0.5, 1.0, 3.0));
        assert_eq!(vary("telephone=a").audio.rate_hz, 8_000);
        assert_eq!(vary("noise=babble:5"), vary("noise=babble:5"));
    }

    #[test]
    fn broken_recipes_say_why() {
        for recipe in [
            "",
            "noise",
            "noise=brown:5",
            "noise=white",
            "noise=white:x",
            "speed=0",
            "band=900:100",
            "echo=1",
            "loss=5:x",
        ] {
            assert!(recipe.parse::<Recipe>().is_err(), "{recipe}");
        }
    }
}
