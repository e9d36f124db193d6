//! The time differences of one clip, over the words that were heard right.

use crate::align::{Edit, WordGraph, align, unlikeness};
use crate::text::TextProfile;
use crate::{Clip, Heard};

/// Heard minus labelled times of one clip.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ClipOffsets {
    /// One entry a word heard right, in reading order.
    pub words: Vec<WordOffset>,
}

/// One word's time differences; positive means that the engine puts it too late.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WordOffset {
    /// Labelled start, in seconds from the start of the audio.
    pub at_s: f64,
    /// Difference of the starts in milliseconds.
    pub start_ms: f64,
    /// Difference of the ends in milliseconds, where the engine gives ends.
    pub end_ms: Option<f64>,
}

/// A token with the times of the word it comes from; a word of several tokens keeps its start on the first and its end
/// on the last.
struct TimedToken {
    text: String,
    start: Option<f64>,
    end: Option<f64>,
}

/// Aligns the labelled words with the heard words and takes the differences where they agree.
///
/// None when either side has no word times.
#[must_use]
pub fn word_offsets(profile: &TextProfile, clip: &Clip, heard: &Heard) -> Option<ClipOffsets> {
    if clip.words.is_empty() || heard.words.iter().all(|word| word.start.is_none()) {
        return None;
    }
    let said: Vec<TimedToken> =
        clip.words.iter().flat_map(|w| timed_tokens(profile, &w.text, Some(w.start), Some(w.end))).collect();
    let heard: Vec<TimedToken> =
        heard.words.iter().flat_map(|w| timed_tokens(profile, &w.text, w.start, w.end)).collect();
    let said = WordGraph::chain(said);
    let alignment = align(&said, &heard, |a, b| a.text == b.text, |a, b| unlikeness(&a.text, &b.text));
    let words = alignment
        .steps
        .iter()
        .filter(|step| step.edit == Edit::Correct)
        .filter_map(|step| {
            let (said, heard) = (&said.words()[step.said?], &heard[step.heard?]);
            Some(WordOffset {
                at_s: said.start?,
                start_ms: (heard.start? - said.start?) * 1e3,
                end_ms: said.end.zip(heard.end).map(|(said, heard)| (heard - said) * 1e3),
            })
        })
        .collect();
    Some(ClipOffsets { words })
}

fn timed_tokens(profile: &TextProfile, text: &str, start: Option<f64>, end: Option<f64>) -> Vec<TimedToken> {
    let mut tokens: Vec<TimedToken> =
        profile.tokens(text).into_iter().map(|text| TimedToken { text, start: None, end: None }).collect();
    if let Some(first) = tokens.first_mut() {
        first.start = start;
    }
    if let Some(last) = tokens.last_mut() {
        last.end = end;
    }
    tokens
}
