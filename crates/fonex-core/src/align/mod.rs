//! Minimal edit alignment of a label with what was heard.
//!
//! The cost of a path is its edits: substitutions, deletions and insertions of one token, each counting one
//! (Levenshtein, "Binary codes capable of correcting deletions, insertions, and reversals", 1966). Among paths of
//! equal edits the one with the most correct tokens is taken, which makes the counts unique; among those, the one
//! whose substituted words look most alike; then the one that pairs words as early as it can.

mod counts;
mod graph;
mod likeness;
mod search;

pub use counts::EditCounts;
pub use graph::WordGraph;
pub use likeness::{UNLIKE_MAX, unlikeness};
pub use search::{align, count_edits};

use serde::{Deserialize, Serialize};

/// What happened to one token.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Edit {
    /// Said and heard.
    Correct,
    /// Another token was heard.
    Substituted,
    /// Said and not heard.
    Deleted,
    /// Heard and not said.
    Inserted,
}

/// One step of an alignment. Indices point into the label's graph and into the heard tokens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// What happened.
    pub edit: Edit,
    /// Node of the label's word graph; none for an insertion.
    pub said: Option<usize>,
    /// Index of the heard token; none for a deletion.
    pub heard: Option<usize>,
}

/// A minimal alignment, in reading order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alignment {
    /// The steps in reading order.
    pub steps: Vec<Step>,
}

impl Alignment {
    /// How often each edit occurs.
    #[must_use]
    pub fn counts(&self) -> EditCounts {
        self.steps.iter().fold(EditCounts::default(), |mut counts, step| {
            counts.record(step.edit);
            counts
        })
    }

    /// The label's words on the path taken, as nodes of its graph.
    pub fn said_path(&self) -> impl Iterator<Item = usize> + '_ {
        self.steps.iter().filter_map(|step| step.said)
    }
}
