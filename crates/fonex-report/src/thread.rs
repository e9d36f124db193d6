//! The word-by-word comparison as pieces that any surface can draw.
//!
//! A clip is a thread. Where the words were heard right the thread runs on; where they were not, it breaks and shows
//! what was heard instead. Long runs of right words fold, so that an hour of speech reads as its faults in context.

use fonex_core::accuracy::WordStep;
use fonex_core::align::Edit;
use fonex_core::text::Token;
use serde::Serialize;
use unicode_bidi::{BidiClass, bidi_class};

/// One piece of the thread, in reading order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Piece {
    /// A word heard right.
    Right {
        /// The word.
        said: String,
    },
    /// Words heard right that are folded away.
    Folded {
        /// How many.
        words: usize,
    },
    /// A word heard as another.
    Other {
        /// What was said.
        said: String,
        /// What was heard instead.
        heard: String,
    },
    /// A word not heard.
    Dropped {
        /// What was said.
        said: String,
    },
    /// A word that nobody said.
    Added {
        /// What was heard.
        heard: String,
    },
}

/// Right words kept on each side of a fault when the rest folds.
const CONTEXT: usize = 4;
/// The shortest run of right words worth folding.
const FOLD_FROM: usize = 6;
/// Clips of up to this many words are shown whole.
const SHORT: usize = 24;

/// The pieces of a comparison. With `fold`, runs of right words away from any fault become one piece.
#[must_use]
pub fn pieces(steps: &[WordStep], fold: bool) -> Vec<Piece> {
    let word = |text: &Option<Token>| text.as_deref().unwrap_or_default().to_owned();
    let fold = fold && steps.len() > SHORT;
    let mut pieces = Vec::with_capacity(steps.len());
    let runs: Vec<&[WordStep]> =
        steps.chunk_by(|a, b| (a.edit == Edit::Correct) == (b.edit == Edit::Correct)).collect();
    for (index, run) in runs.iter().enumerate() {
        let right = run[0].edit == Edit::Correct;
        let keep_head = if index == 0 { 0 } else { CONTEXT };
        let keep_tail = if index + 1 == runs.len() { 0 } else { CONTEXT };
        let foldable = run.len().saturating_sub(keep_head + keep_tail);
        let folded = if fold && right && foldable >= FOLD_FROM { keep_head..keep_head + foldable } else { 0..0 };
        for (at, step) in run.iter().enumerate() {
            if folded.contains(&at) {
                if at == folded.start {
                    pieces.push(Piece::Folded { words: folded.len() });
                }
                continue;
            }
            pieces.push(match step.edit {
                Edit::Correct => Piece::Right { said: word(&step.said) },
                Edit::Substituted => Piece::Other { said: word(&step.said), heard: word(&step.heard) },
                Edit::Deleted => Piece::Dropped { said: word(&step.said) },
                Edit::Inserted => Piece::Added { heard: word(&step.heard) },
            });
        }
    }
    pieces
}

/// Whether most directed letters of a comparison run from right to left (UAX 9 classes R and AL).
#[must_use]
pub fn is_right_to_left(steps: &[WordStep]) -> bool {
    let words = steps.iter().flat_map(|step| step.said.iter().chain(&step.heard));
    let (mut right, mut left) = (0, 0);
    for c in words.flat_map(|word| word.chars()) {
        match bidi_class(c) {
            BidiClass::R | BidiClass::AL => right += 1,
            BidiClass::L => left += 1,
            _ => {}
        }
    }
    right > left
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(edit: Edit, said: Option<&str>, heard: Option<&str>) -> WordStep {
        WordStep { edit, said: said.map(Token::from), heard: heard.map(Token::from) }
    }

    #[test]
    fn long_right_runs_fold_and_faults_keep_their_context() {
        let mut steps: Vec<WordStep> = (0..20).map(|_| step(Edit::Correct, Some("a"), Some("a"))).collect();
        steps.push(step(Edit::Substituted, Some("b"), Some("c")));
        steps.extend((0..3).map(|_| step(Edit::Correct, Some("a"), Some("a"))));
        steps.push(step(Edit::Deleted, Some("d"), None));
        steps.push(step(Edit::Inserted, None, Some("e")));
        let drawn = pieces(&steps, true);
        assert_eq!(drawn[0], Piece::Folded { words: 16 });
        assert_eq!(drawn[5], Piece::Other { said: "b".into(), heard: "c".into() });
        assert_eq!(drawn.last(), Some(&Piece::Added { heard: "e".into() }));
        assert_eq!((drawn.len(), pieces(&steps, false).len()), (11, 26));
    }

    #[test]
    fn direction_follows_the_letters() {
        assert!(is_right_to_left(&[step(Edit::Substituted, Some("שלום"), Some("12"))]));
        assert!(!is_right_to_left(&[step(Edit::Correct, Some("hold"), Some("hold"))]));
    }
}
