//! One clip: what was said and heard, word by word.

use serde::{Deserialize, Serialize};

use crate::align::{Edit, EditCounts, align, count_edits, unlikeness};
use crate::text::{Label, TextProfile};

/// One word of the comparison, in reading order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct WordStep {
    /// What happened.
    pub edit: Edit,
    /// The word said; none for an inserted word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<String>,
    /// The word heard; none for a deleted word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard: Option<String>,
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
    let alignment = align(&said, &heard, String::eq, |a, b| unlikeness(a, b));
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
    let heard_characters = joined(heard.iter().map(String::as_str));
    ClipScore { words: alignment.counts(), characters: count_edits(&said_characters, &heard_characters), steps }
}

fn joined<'w>(words: impl Iterator<Item = &'w str>) -> Vec<char> {
    let mut characters = Vec::new();
    for word in words {
        if !characters.is_empty() {
            characters.push(' ');
        }
        characters.extend(word.chars());
    }
    characters
}

impl ClipScore {
    /// Whether any word is wrong.
    #[must_use]
    pub const fn has_errors(&self) -> bool {
        self.words.errors() > 0
    }
}
