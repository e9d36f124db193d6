//! The time differences of one clip, over the words that were heard right.

use crate::align::{APART_MAX, Against, Edit, WordGraph, align, unlikeness};
use crate::text::{TextProfile, Token};
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
    text: Token,
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
    let texts = |tokens: &[TimedToken]| tokens.iter().map(|token| token.text.clone()).collect::<Vec<Token>>();
    let against = |node: usize, at: usize, same: bool| {
        let (said, heard): (&TimedToken, &TimedToken) = (&said[node], &heard[at]);
        let unlike = if same { 0 } else { unlikeness(&said.text, &heard.text) };
        Against { apart: apart(said, heard), unlike }
    };
    let alignment = align(&WordGraph::chain(texts(&said)), &texts(&heard), against);
    let words = alignment
        .steps
        .iter()
        .filter(|step| step.edit == Edit::Correct)
        .filter_map(|step| {
            let (said, heard) = (&said[step.said?], &heard[step.heard?]);
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

/// How far apart in time two words are, in quarters of a second; words that overlap are not apart.
fn apart(said: &TimedToken, heard: &TimedToken) -> u8 {
    const QUARTER_S: f64 = 0.25;
    let (Some(said_start), Some(heard_start)) = (said.start, heard.start) else { return 0 };
    let said_end = said.end.unwrap_or(said_start);
    let heard_end = heard.end.unwrap_or(heard_start);
    let gap = (heard_start - said_end).max(said_start - heard_end);
    if gap > 0.0 { (gap / QUARTER_S).ceil().min(f64::from(APART_MAX)) as u8 } else { 0 }
}
