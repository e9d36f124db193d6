//! The time differences of one clip, over the words that were heard right.

use serde::{Deserialize, Serialize};

use super::{TimeFaults, other_unit, time_faults};
use crate::align::{APART_MAX, Against, Edit, WordGraph, align, unlikeness};
use crate::text::{TextProfile, Token};
use crate::{Clip, Heard, HeardWord, TimedWord};

/// Heard minus labelled times of one clip.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct ClipOffsets {
    /// One entry a word heard right, in reading order; none where the times are in another unit.
    pub words: Vec<WordOffset>,
    /// What is wrong with the times as they came.
    pub faults: TimeFaults,
    /// Whether the engine gave only segments, whose time was divided among the letters of their words.
    pub interpolated: bool,
    /// The unit the times seem to be in, as how many of it make a second, where it is not seconds; [`UNKNOWN_UNIT`] where
    /// they can be none that is known.
    pub unit: Option<f64>,
}

/// One word's time differences; positive means that the engine puts it too late.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
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
/// An engine that gives times of segments only has them divided among the words; the result says so. None when either
/// side has no times.
#[must_use]
pub fn word_offsets(profile: &TextProfile, clip: &Clip, heard: &Heard) -> Option<ClipOffsets> {
    if clip.words.is_empty() {
        return None;
    }
    let interpolated = heard.words.iter().all(|word| word.start.is_none());
    if interpolated && heard.segments.is_empty() {
        return None;
    }
    let divided: Vec<HeardWord>;
    let heard_words = if interpolated {
        let as_heard = |word: TimedWord| HeardWord {
            text: word.text,
            start: Some(word.start),
            end: Some(word.end),
            confidence: None,
        };
        divided = heard.segments.iter().flat_map(divided_among_words).map(as_heard).collect();
        &divided
    } else {
        &heard.words
    };
    let faults = time_faults(heard_words);
    let faults = TimeFaults { guessed: faults.guessed && !interpolated, ..faults };
    let said: Vec<TimedToken> =
        clip.words.iter().flat_map(|w| timed_tokens(profile, &w.text, Some(w.start), Some(w.end))).collect();
    let heard: Vec<TimedToken> =
        heard_words.iter().flat_map(|w| timed_tokens(profile, &w.text, w.start, w.end)).collect();
    let texts = |tokens: &[TimedToken]| tokens.iter().map(|token| token.text.clone()).collect::<Vec<Token>>();
    let against = |node: usize, at: usize, same: bool| {
        let (said, heard): (&TimedToken, &TimedToken) = (&said[node], &heard[at]);
        let unlike = if same { 0 } else { unlikeness(&said.text, &heard.text) };
        Against { apart: apart(said, heard), unlike }
    };
    let alignment = align(&WordGraph::chain(texts(&said)), &texts(&heard), against);
    let right = || {
        let steps = alignment.steps.iter().filter(|step| step.edit == Edit::Correct);
        steps.filter_map(|step| Some((&said[step.said?], &heard[step.heard?])))
    };
    let starts: Vec<(f64, f64)> = right().filter_map(|(said, heard)| Some((said.start?, heard.start?))).collect();
    let (said_s, heard_s): (Vec<f64>, Vec<f64>) = starts.into_iter().unzip();
    let last_s = clip.words.iter().map(|word| word.end).fold(0.0, f64::max);
    let unit = other_unit(&said_s, &heard_s).or_else(|| are_impossible(&heard_s, last_s).then_some(UNKNOWN_UNIT));
    if unit.is_some() {
        // In another unit durations are too small, or too large, to tell whether they were divided.
        let faults = TimeFaults { guessed: false, ..faults };
        return Some(ClipOffsets { words: Vec::new(), faults, interpolated, unit });
    }
    let offset = |(said, heard): (&TimedToken, &TimedToken)| {
        Some(WordOffset {
            at_s: said.start?,
            start_ms: (heard.start? - said.start?) * 1e3,
            end_ms: said.end.zip(heard.end).map(|(said, heard)| (heard - said) * 1e3),
        })
    };
    Some(ClipOffsets { words: right().filter_map(offset).collect(), faults, interpolated, unit })
}

/// The unit of times that lie where no recording can be.
pub const UNKNOWN_UNIT: f64 = 0.0;

/// Whether some times lie so far behind the last labelled word that no engine can mean them: too few words to tell a unit by.
fn are_impossible(heard_s: &[f64], last_s: f64) -> bool {
    const FAR_S: f64 = 60.0;
    heard_s.iter().any(|at| *at > 3.0 * last_s + FAR_S)
}

/// The words of a segment, its time divided by their letters and the spaces between them.
#[must_use]
pub fn divided_among_words(segment: &TimedWord) -> Vec<TimedWord> {
    let words: Vec<&str> = segment.text.split_whitespace().collect();
    let letters = |word: &&str| word.chars().count() as f64;
    let all = words.iter().map(letters).sum::<f64>() + words.len().saturating_sub(1) as f64;
    let each = (segment.end - segment.start) / all.max(1.0);
    let mut at = segment.start;
    let mut timed = |word: &str| {
        let (start, end) = (at, at + letters(&word) * each);
        at = end + each;
        TimedWord { text: word.to_owned(), start, end }
    };
    words.iter().map(|word| timed(word)).collect()
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
