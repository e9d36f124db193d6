//! What a measure may look at: one trial with its clip, its answer, and what comparing the two gave.

use crate::align::EditCounts;
use crate::audio::AudioMeasures;
use crate::latency::{LiveClip, LiveLog, Traffic};
use crate::speech::{Followed, SpeechMeasures};
use crate::timing::ClipOffsets;
use crate::{Clip, Outcome};

/// One trial. What is not there is not measured.
#[derive(Debug, Clone, Copy)]
pub struct Trial<'t> {
    /// The label.
    pub clip: &'t Clip,
    /// How the trial ended.
    pub outcome: Outcome,
    /// What was heard against the label; of a trial without an answer, an empty text against it.
    pub hearing: Option<&'t HearingCounts>,
    /// Wall time of the call in milliseconds.
    pub took_ms: Option<f64>,
    /// Milliseconds until the first text or sound, where the answer came in pieces.
    pub first_ms: Option<f64>,
    /// Seconds of audio heard or spoken.
    pub audio_s: Option<f64>,
    /// Processor seconds of the engine.
    pub cpu_s: Option<f64>,
    /// Peak memory of the engine in KiB.
    pub peak_memory_kib: Option<u64>,
    /// Measures of the audio spoken.
    pub spoken: Option<&'t AudioMeasures>,
    /// How the answer is spoken.
    pub speech: Option<&'t SpeechMeasures>,
    /// The text that was to be spoken; empty where none was.
    pub text_to_speak: &'t str,
    /// What the markup of the text asked of the sound, and how much of it is done.
    pub markup: Option<Followed>,
    /// What was replied.
    pub replied: Option<&'t str>,
    /// What was exchanged.
    pub traffic: Option<&'t Traffic>,
    /// What the trial cost at its prices.
    pub cost: Option<f64>,
}

impl<'t> Trial<'t> {
    /// A trial of which only what was heard is known.
    #[must_use]
    pub const fn heard(clip: &'t Clip, outcome: Outcome, hearing: &'t HearingCounts, took_ms: Option<f64>) -> Self {
        Self {
            clip,
            outcome,
            hearing: Some(hearing),
            took_ms,
            first_ms: None,
            audio_s: None,
            cpu_s: None,
            peak_memory_kib: None,
            spoken: None,
            speech: None,
            text_to_speak: "",
            markup: None,
            replied: None,
            traffic: None,
            cost: None,
        }
    }

    /// The words of the text that was to be spoken.
    #[must_use]
    pub fn words_to_speak(&self) -> u64 {
        self.text_to_speak.split_whitespace().count() as u64
    }

    /// The live log and what it shows.
    #[must_use]
    pub fn live(&self) -> Option<(&'t LiveClip, &'t LiveLog)> {
        Some((self.hearing?.live.as_ref()?, self.traffic?.live.as_deref()?))
    }
}

/// What comparing a heard text with its label gave.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct HearingCounts {
    /// The texts were too long and too unlike to be aligned as a whole: the errors are an upper bound.
    pub in_pieces: bool,
    /// Words.
    pub words: EditCounts,
    /// Characters.
    pub characters: EditCounts,
    /// Words of the texts as they are written, without any profile.
    pub as_written: EditCounts,
    /// Whether the first word said was not heard right; none where nothing was said.
    pub first_word_wrong: Option<bool>,
    /// Whether the last word said was not heard right; none where nothing was said.
    pub last_word_wrong: Option<bool>,
    /// The most words in a row that were not heard.
    pub longest_gap: u64,
    /// Words heard after the last one that was said.
    pub words_after: u64,
    /// Weights of the words said and of the wrong words, where words have weights.
    pub weighted: Option<[f64; 2]>,
    /// Must-hear terms found, missed and invented; none where the corpus lists no terms.
    pub terms: Option<[u64; 3]>,
    /// Whether every term that the clip lists was heard; none where it lists none.
    pub all_terms: Option<bool>,
    /// Punctuation signs found, missed and invented.
    pub punctuation: [u64; 3],
    /// Capitals found, missed and invented.
    pub capitals: [u64; 3],
    /// Confidence of each heard word that has one, and whether it was right.
    pub confidences: Vec<(f64, bool)>,
    /// Differences of the word times.
    pub offsets: Option<ClipOffsets>,
    /// What live delivery showed.
    pub live: Option<LiveClip>,
}
