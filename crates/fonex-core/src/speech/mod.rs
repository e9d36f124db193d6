//! How something is spoken, measured from its sound alone: pitch, syllables, pauses, loudness, spectrum, and faults of the audio.

mod change;
mod faults;
mod likeness;
mod lowered;
mod markup;
mod phrasing;
mod pitch;
mod recording;
mod repeats;
mod spectrum;
mod syllables;

use serde::{Deserialize, Serialize};

pub use change::{ALIKE_DB, SoundChange, SoundVerdict, TextDistance, sound_change};
pub use faults::{AskedSound, Fault, Faults};
pub use likeness::{Timbre, distance_db, timbre};
pub use markup::{Followed, Markup, MarkupError, Spoken, followed, read_markup};
pub use phrasing::{PauseAt, Phrasing, phrasing, syllables_of, written_syllables};
pub use pitch::{Pitch, PitchTrack, pitch_track};
pub use recording::{Heard, Recording};
pub use spectrum::{Spectrum, long_term_spectrum};
pub use syllables::syllables;

use self::faults::faults;
use self::lowered::Lowered;
use self::pitch::{Pitches, track_of_low};
use self::repeats::repeated_stretch;
use self::spectrum::SpectrumSums;
use crate::audio::{
    Audio, AudioMeasures, Blocks, Loudness, PauseRule, Stretch, decibels, loudness, pauses, power, samples_in,
};

/// The shortest silence inside speech that is a pause, in seconds; shorter ones are closures of consonants (Goldman-Eisler,
/// "Psycholinguistics", 1968).
const LEAST_PAUSE_S: f64 = 0.25;

/// How something is spoken. Left out is what cannot be measured in it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default)]
pub struct SpeechMeasures {
    /// Pitch over the voiced frames.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pitch: Option<Pitch>,
    /// Syllables counted in the sound.
    pub syllables: u32,
    /// Seconds between the silences at both ends, pauses left out.
    pub speaking_s: f64,
    /// Pauses inside.
    pub pauses: Pauses,
    /// Each of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pauses_at: Vec<PauseAt>,
    /// How much the level moves while speaking: its standard deviation over stretches of a twentieth of a second, in decibels.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub level_movement_db: Option<f64>,
    /// Integrated loudness in LUFS (ITU-R BS.1770-4).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loudness_lufs: Option<f64>,
    /// True peak in dBTP.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub true_peak_dbtp: Option<f64>,
    /// The long-term spectrum in two figures.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spectrum: Option<Spectrum>,
    /// What is wrong with the audio.
    pub faults: Faults,
}

/// Pauses inside speech, those at its ends left out.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Pauses {
    /// How many.
    pub count: u32,
    /// Seconds of all.
    pub total_s: f64,
    /// Seconds of the longest.
    pub longest_s: f64,
}

impl SpeechMeasures {
    /// Syllables a second while speaking. None where nobody speaks.
    #[must_use]
    pub fn syllables_per_s(&self) -> Option<f64> {
        (self.speaking_s > 0.0 && self.syllables > 0).then(|| f64::from(self.syllables) / self.speaking_s)
    }

    /// In plain words, with the figures behind them elsewhere: what a listener would remark. The bounds are those of read speech: four to six
    /// syllables a second (Pellegrino, Coupé and Marsico 2011), and a pitch that moves over 6 to 18 semitones.
    #[must_use]
    pub fn in_words(&self) -> Vec<&'static str> {
        let rate = self.syllables_per_s();
        let mut words = words_for(rate, None);
        let without_pauses = self.speaking_s > 6.0 && self.pauses.total_s < 0.03 * self.speaking_s;
        words.extend((without_pauses && rate.is_some_and(|rate| rate > 4.0)).then_some("breathless"));
        words.extend(words_for(None, self.pitch.map(|pitch| pitch.range_st)));
        words
    }
}

/// What a listener would remark of a rate in syllables a second and a range of pitch in semitones.
#[must_use]
pub fn words_for(syllables_per_s: Option<f64>, range_st: Option<f64>) -> Vec<&'static str> {
    let mut words = Vec::new();
    if let Some(rate) = syllables_per_s {
        words.extend((rate < 3.2).then_some("slow"));
        words.extend((rate > 6.5).then_some("fast"));
    }
    if let Some(range_st) = range_st {
        words.extend((range_st < 5.0).then_some("flat"));
        words.extend((range_st > 14.0).then_some("lively"));
    }
    words
}

/// The level of some samples in decibels relative to full scale; silence is -120.
fn level_db(samples: &[f32]) -> f64 {
    decibels(power(samples).max(1e-12))
}

/// How far below the loudest stretches speech is still speech, in decibels.
const SPEECH_BELOW_DB: f64 = 30.0;

/// Seconds over which the level is taken whose movement is measured.
const MOVEMENT_S: f64 = 0.05;

/// The standard deviation of levels that are speech. None where there are hardly any.
fn level_movement_db(levels: &[f64]) -> Option<f64> {
    let loudest = crate::stats::quantile(levels, 0.95)?;
    let speech: Vec<f64> = levels.iter().copied().filter(|level| *level > loudest - SPEECH_BELOW_DB).collect();
    let mean = speech.iter().sum::<f64>() / speech.len() as f64;
    let squares: f64 = speech.iter().map(|level| (level - mean).powi(2)).sum();
    (speech.len() >= 10 && loudest > -100.0).then(|| (squares / (speech.len() - 1) as f64).sqrt())
}

/// Measures how something is spoken. `measures` are those of the same audio. Cost: some hundreds of times faster than real time, most of
/// it for the pitch and for what comes twice.
#[must_use]
pub fn measure_speech(audio: &Audio, measures: &AudioMeasures) -> SpeechMeasures {
    let mut so_far = SpeechSoFar::new(audio.rate_hz);
    so_far.add(audio, measures.noise_floor_dbfs);
    let rule = PauseRule { least_pause_s: LEAST_PAUSE_S, ..PauseRule::default() };
    so_far.finish(measures, pauses(audio, &rule), loudness(audio))
}

/// What speech is measured from, of a recording as a whole or piece by piece.
struct SpeechSoFar {
    rate_hz: u32,
    samples: u64,
    pitches: Pitches,
    syllables: u32,
    levels: Vec<f64>,
    blocks: Blocks,
    spectrum: SpectrumSums,
    faults: Option<Faults>,
}

impl SpeechSoFar {
    fn new(rate_hz: u32) -> Self {
        Self {
            rate_hz,
            samples: 0,
            pitches: Pitches::default(),
            syllables: 0,
            levels: Vec::new(),
            blocks: Blocks::of(samples_in(rate_hz, MOVEMENT_S)),
            spectrum: SpectrumSums::default(),
            faults: None,
        }
    }

    /// Takes in a piece, with its noise floor.
    fn add(&mut self, audio: &Audio, ground_dbfs: Option<f64>) {
        let lowered = Lowered::new(audio);
        let track = lowered.as_ref().map(|lowered| track_of_low(&lowered.for_pitch.samples)).unwrap_or_default();
        self.pitches.add(&track);
        self.syllables += syllables(audio, &track);
        let levels = &mut self.levels;
        self.blocks.add(&audio.samples, |block| levels.push(level_db(block)));
        self.spectrum.add(audio);
        let found = faults(audio, lowered, ground_dbfs);
        let at_s = self.samples as f64 / f64::from(self.rate_hz);
        self.faults = Some(self.faults.map_or(found, |before| before.followed_by(found, at_s)));
        self.samples += audio.samples.len() as u64;
    }

    /// Sums up. `measures` and `loudness` are those of the whole, `pauses` all silences of a quarter of a second and longer in it.
    fn finish(self, measures: &AudioMeasures, pauses: Vec<Stretch>, loudness: Loudness) -> SpeechMeasures {
        let silence = measures.silence;
        let inside = Stretch { start: silence.leading_s, end: measures.duration_s - silence.trailing_s };
        let found: Vec<Stretch> = pauses
            .into_iter()
            .map(|pause| Stretch { start: pause.start.max(inside.start), end: pause.end.min(inside.end) })
            // One that reaches an end of the speech is silence at that end.
            .filter(|pause| pause.start > inside.start + 0.02 && pause.end < inside.end - 0.02)
            .filter(|pause| pause.end - pause.start >= LEAST_PAUSE_S)
            .collect();
        let lengths = || found.iter().map(|pause| pause.end - pause.start);
        let total_s: f64 = lengths().fold(0.0, |all, length| all + length);
        let pauses_at = found.iter().scan(0.0, |paused_s, pause| {
            let after_s = pause.start - inside.start - *paused_s;
            *paused_s += pause.end - pause.start;
            Some(PauseAt { after_s, length_s: pause.end - pause.start })
        });
        let pauses_at = pauses_at.collect();
        let faults = self.faults.unwrap_or_default();
        let faults = faults.of_whole(&found, inside.end - inside.start, self.pitches.voiced_s());
        SpeechMeasures {
            pitch: self.pitches.summary(),
            syllables: self.syllables,
            speaking_s: (inside.end - inside.start - total_s).max(0.0),
            pauses: Pauses { count: found.len() as u32, total_s, longest_s: lengths().fold(0.0, f64::max) },
            pauses_at,
            level_movement_db: level_movement_db(&self.levels),
            loudness_lufs: loudness.integrated_lufs,
            true_peak_dbtp: loudness.true_peak_dbtp,
            spectrum: self.spectrum.spectrum(),
            faults,
        }
    }
}
