//! Texts of overlapping pieces of one recording made one, without the words both heard.

use crate::{Heard, HeardWord};

/// A piece of a recording and what was heard in it. Word times are seconds from the start of the piece.
#[derive(Debug, Clone, PartialEq)]
pub struct HeardPiece {
    /// Start of the piece in the recording, in seconds.
    pub start_s: f64,
    /// Its end.
    pub end_s: f64,
    /// What was heard.
    pub heard: Heard,
}

/// Joins pieces in order. Where two overlap and all words have times, the seam lies in the middle of the overlap and
/// each word belongs to the side its own middle lies on; without times, the longest run of words that ends one text and
/// begins the next is written once. Cost: the words, and for texts without times the square of the words in an overlap.
#[must_use]
pub fn join_pieces(pieces: &[HeardPiece]) -> Heard {
    let mut joined = Heard::default();
    let mut texts: Vec<String> = Vec::new();
    let mut end_s = f64::NEG_INFINITY;
    for piece in pieces {
        let overlap_s = (end_s - piece.start_s).max(0.0);
        let timed = !piece.heard.words.is_empty() && piece.heard.words.iter().all(|word| word.start.is_some());
        if timed && joined.words.len() == texts.len() {
            let seam = piece.start_s + overlap_s / 2.0;
            let moved = piece.heard.words.iter().map(|word| moved(word, piece.start_s));
            let kept: Vec<HeardWord> = moved.filter(|word| overlap_s == 0.0 || middle(word) >= seam).collect();
            if overlap_s > 0.0 {
                joined.words.retain(|word| middle(word) < seam);
                drop_twin(&mut joined.words, &kept);
                texts.truncate(joined.words.len());
            }
            texts.extend(kept.iter().map(|word| word.text.clone()));
            joined.words.extend(kept);
        } else {
            let words: Vec<String> = piece.heard.text.split_whitespace().map(str::to_owned).collect();
            let shared = if overlap_s > 0.0 { shared_words(&texts, &words, overlap_s) } else { 0 };
            texts.extend(words.into_iter().skip(shared));
            let times = piece.heard.words.iter().skip(shared).map(|word| moved(word, piece.start_s));
            joined.words.extend(times);
        }
        end_s = end_s.max(piece.end_s);
    }
    joined.text = texts.join(" ");
    joined
}

fn moved(word: &HeardWord, by_s: f64) -> HeardWord {
    HeardWord { start: word.start.map(|s| s + by_s), end: word.end.map(|s| s + by_s), ..word.clone() }
}

fn middle(word: &HeardWord) -> f64 {
    let start = word.start.unwrap_or_default();
    (start + word.end.unwrap_or(start)) / 2.0
}

/// A word across the seam may be kept by both sides, when each puts it a little to its own: the same word, touching.
fn drop_twin(left: &mut Vec<HeardWord>, right: &[HeardWord]) {
    let (Some(last), Some(first)) = (left.last(), right.first()) else { return };
    let touching = first.start.zip(last.end.or(last.start)).is_some_and(|(start, end)| start - end < 0.05);
    if touching && bare(&last.text) == bare(&first.text) {
        left.pop();
    }
}

/// Words beginning `right` that `left` ends with already. No more are looked at than a person can say in the overlap.
fn shared_words(left: &[String], right: &[String], overlap_s: f64) -> usize {
    const WORDS_A_SECOND: f64 = 8.0;
    let most = ((overlap_s * WORDS_A_SECOND).ceil() as usize).min(left.len()).min(right.len());
    let same = |a: &[String], b: &[String]| a.iter().zip(b).all(|(a, b)| bare(a) == bare(b));
    (1..=most).rev().find(|n| same(&left[left.len() - n..], &right[..*n])).unwrap_or(0)
}

fn bare(word: &str) -> String {
    word.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn piece(start_s: f64, end_s: f64, words: &[(&str, f64)], timed: bool) -> HeardPiece {
        let text = words.iter().map(|w| w.0).collect::<Vec<_>>().join(" ");
        let words = words.iter().map(|(text, at)| HeardWord {
            text: (*text).to_owned(),
            start: Some(at - start_s),
            end: Some(at - start_s + 0.3),
            confidence: None,
        });
        let words = if timed { words.collect() } else { Vec::new() };
        HeardPiece { start_s, end_s, heard: Heard { text, words, ..Heard::default() } }
    }

    #[test]
    fn any_window_gives_the_words_once() {
        let spoken: Vec<(String, f64)> = (0..60).map(|i| (format!("w{i}"), f64::from(i) * 0.4)).collect();
        for timed in [true, false] {
            for (window_s, overlap_s) in [(4.0, 0.0), (4.0, 1.5), (6.4, 2.4), (10.0, 3.0)] {
                let mut pieces = Vec::new();
                let mut start = 0.0;
                while start < 24.0 {
                    // A recogniser hears the words that lie whole in its window.
                    let whole = spoken.iter().filter(|(_, at)| *at >= start - 1e-9 && at + 0.3 <= start + window_s);
                    let words: Vec<(&str, f64)> = whole.map(|(w, at)| (w.as_str(), *at)).collect();
                    pieces.push(piece(start, start + window_s, &words, timed));
                    start += window_s - overlap_s;
                }
                let expected: Vec<&str> = spoken.iter().map(|(w, _)| w.as_str()).collect();
                assert_eq!(join_pieces(&pieces).text, expected.join(" "), "{window_s} {overlap_s} {timed}");
            }
        }
    }

    #[test]
    fn repeated_words_are_not_mistaken_for_an_overlap() {
        let apart = [piece(0.0, 2.0, &[("no", 1.0)], false), piece(2.0, 4.0, &[("no", 2.5)], false)];
        assert_eq!(join_pieces(&apart).text, "no no");
        let twin = [piece(0.0, 2.0, &[("hold", 1.25)], true), piece(1.0, 3.0, &[("Hold", 1.4), ("on", 2.0)], true)];
        assert_eq!(join_pieces(&twin).text, "Hold on");
    }
}
