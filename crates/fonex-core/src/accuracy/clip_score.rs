//! One clip: what was said and heard, word by word.

use std::hash::BuildHasher;

use serde::{Deserialize, Serialize};

use crate::align::{
    Against, Alignment, Edit, EditCounts, WordGraph, align, count_character_edits, count_edits, unlikeness,
};
use crate::text::{Label, LabelPart, TextProfile, Token, Vocabulary};

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
    let mut comparer = Comparer::default();
    comparer.compare(profile, label, heard);
    comparer.clip_score()
}

impl ClipScore {
    /// Whether any word is wrong.
    #[must_use]
    pub const fn has_errors(&self) -> bool {
        self.words.errors() > 0
    }
}

/// One step of a comparison, with words as numbers of a vocabulary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct NumberedStep {
    pub(super) edit: Edit,
    pub(super) said: Option<u32>,
    pub(super) heard: Option<u32>,
}

/// Compares clip after clip; what it allocates serves the next one.
#[derive(Debug, Clone, Default)]
pub(super) struct Comparer {
    pub(super) vocabulary: Vocabulary,
    pub(super) words: EditCounts,
    pub(super) characters: EditCounts,
    pub(super) steps: Vec<NumberedStep>,
    heard: Vec<u32>,
    said_text: String,
    heard_text: String,
}

impl Comparer {
    /// Compares one clip; its counts and steps stay until the next.
    pub(super) fn compare(&mut self, profile: &TextProfile, label: &Label, heard: &str) {
        let Self { vocabulary, heard: numbers, heard_text, .. } = self;
        numbers.clear();
        heard_text.clear();
        profile.each_token(heard, |token| {
            numbers.push(vocabulary.number(token));
            append(heard_text, token);
        });
        let mut said: WordGraph<u32> = WordGraph::new();
        let mut numbered = |text: &str| {
            let mut numbers = Vec::with_capacity(16);
            profile.each_token(text, |token| numbers.push(vocabulary.number(token)));
            numbers
        };
        for part in label.parts() {
            match part {
                LabelPart::Fixed(text) => said.push_words(numbered(text)),
                LabelPart::Choice(readings) => {
                    said.push_choice(readings.iter().map(|reading| numbered(reading)).collect());
                }
            }
        }
        let (vocabulary, numbers) = (&self.vocabulary, &self.heard);
        let against = |node: usize, at: usize, same: bool| Against {
            apart: 0,
            unlike: if same {
                0
            } else {
                unlikeness(vocabulary.word(said.words()[node]), vocabulary.word(numbers[at]))
            },
        };
        let alignment = align(&said, numbers, against);
        self.words = alignment.counts();
        self.keep(&alignment, said.words());
        self.characters = count_character_edits(&self.said_text, &self.heard_text);
    }

    fn keep(&mut self, alignment: &Alignment, said: &[u32]) {
        let Self { vocabulary, steps, heard, said_text, .. } = self;
        steps.clear();
        said_text.clear();
        for step in &alignment.steps {
            let said = step.said.map(|node| said[node]);
            if let Some(number) = said {
                append(said_text, vocabulary.word(number));
            }
            steps.push(NumberedStep { edit: step.edit, said, heard: step.heard.map(|at| heard[at]) });
        }
    }

    /// The comparison with its words.
    pub(super) fn clip_score(&self) -> ClipScore {
        let word = |number: Option<u32>| number.map(|number| self.vocabulary.word(number).clone());
        let step = |step: &NumberedStep| WordStep { edit: step.edit, said: word(step.said), heard: word(step.heard) };
        ClipScore { words: self.words, characters: self.characters, steps: self.steps.iter().map(step).collect() }
    }
}

fn append(text: &mut String, word: &str) {
    if !text.is_empty() {
        text.push(' ');
    }
    text.push_str(word);
}

/// Word counts of a clip as it is written, nothing forgiven: what the profile forgives is the difference.
#[must_use]
pub fn count_as_written(label: &Label, heard: &str) -> EditCounts {
    if let [LabelPart::Fixed(text)] = label.parts() {
        return count_edits(&hashed(text), &hashed(heard));
    }
    let mut said = WordGraph::new();
    for part in label.parts() {
        match part {
            LabelPart::Fixed(text) => said.push_words(hashed(text)),
            LabelPart::Choice(readings) => {
                said.push_choice(readings.iter().map(|reading| hashed(reading)).collect());
            }
        }
    }
    // Which words are paired changes no count.
    align(&said, &hashed(heard), |_, _, _| Against::default()).counts()
}

/// The words of a text as hashes of 64 bits, by which they are told apart: of a million different words two would share
/// one once in forty million texts.
fn hashed(text: &str) -> Vec<u64> {
    let hash = foldhash::quality::FixedState::with_seed(3);
    let of = |word: &str| hash.hash_one(word);
    if text.is_ascii() {
        text.split_ascii_whitespace().map(of).collect()
    } else {
        text.split_whitespace().map(of).collect()
    }
}
