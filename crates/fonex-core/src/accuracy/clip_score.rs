//! One clip: what was said and heard, word by word.

use serde::{Deserialize, Serialize};

use crate::align::{Against, Edit, EditCounts, WordGraph, align, count_character_edits, count_edits, unlikeness};
use crate::text::{Label, LabelPart, TextProfile, Token};

/// One word of the comparison, in reading order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct WordStep {
    /// What happened.
    pub edit: Edit,
    /// The word said; none for an inserted word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<Token>,
    /// The word heard; none for a deleted word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard: Option<Token>,
}

/// The comparison of one clip.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClipScore {
    /// Counts over words.
    pub words: EditCounts,
    /// Counts over characters of the words joined by single spaces, spaces included.
    pub characters: EditCounts,
    /// The words in reading order, as the text profile left them.
    pub steps: Vec<WordStep>,
}

/// Compares a heard text with a label under a text profile.
///
/// Where the label offers readings, the one that costs the fewest edits counts as said, for characters as well.
#[must_use]
pub fn score_clip(profile: &TextProfile, label: &Label, heard: &str) -> ClipScore {
    let said = profile.label_words(label);
    let heard = profile.tokens(heard);
    let against = |node: usize, at: usize, same: bool| Against {
        apart: 0,
        unlike: if same { 0 } else { unlikeness(&said.words()[node], &heard[at]) },
    };
    let alignment = align(&said, &heard, against);
    let steps: Vec<WordStep> = alignment
        .steps
        .iter()
        .map(|step| WordStep {
            edit: step.edit,
            said: step.said.map(|node| said.words()[node].clone()),
            heard: step.heard.map(|at| heard[at].clone()),
        })
        .collect();
    let said_characters = joined(steps.iter().filter_map(|step| step.said.as_deref()));
    let heard_characters = joined(heard.iter().map(Token::as_str));
    ClipScore {
        words: alignment.counts(),
        characters: count_character_edits(&said_characters, &heard_characters),
        steps,
    }
}

/// Word counts of a clip as it is written, nothing forgiven: what the profile forgives is the difference.
#[must_use]
pub fn count_as_written(label: &Label, heard: &str) -> EditCounts {
    let heard: Vec<&str> = heard.split_whitespace().collect();
    if let [LabelPart::Fixed(text)] = label.parts() {
        return count_edits(&text.split_whitespace().collect::<Vec<_>>(), &heard);
    }
    let mut said = WordGraph::new();
    for part in label.parts() {
        match part {
            LabelPart::Fixed(text) => said.push_words(text.split_whitespace()),
            LabelPart::Choice(readings) => {
                said.push_choice(readings.iter().map(|reading| reading.split_whitespace().collect()).collect());
            }
        }
    }
    // Which words are paired changes no count.
    align(&said, &heard, |_, _, _| Against::default()).counts()
}

fn joined<'w>(words: impl Iterator<Item = &'w str>) -> String {
    let mut text = String::with_capacity(128);
    for word in words {
        if !text.is_empty() {
            text.push(' ');
        }
        text.push_str(word);
    }
    text
}

impl ClipScore {
    /// Whether any word is wrong.
    #[must_use]
    pub const fn has_errors(&self) -> bool {
        self.words.errors() > 0
    }
}
