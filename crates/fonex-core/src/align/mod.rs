//! Minimal edit alignment of a label with what was heard.
//!
//! The cost of a path is its edits: substitutions, deletions and insertions of one token, each counting one
//! (Levenshtein, "Binary codes capable of correcting deletions, insertions, and reversals", 1966). Among paths of
//! equal edits the one with the most correct tokens is taken, which makes the counts unique; among those, the one
//! whose pairs overlap in time, where both sides have times; then the one whose substituted words look most alike; then
//! one that the tokens alone decide, the same at every run.

mod band;
mod bits;
mod chain;
mod counts;
mod graph;
mod likeness;
mod search;
mod sweep;

pub use counts::EditCounts;
pub use graph::WordGraph;
pub use likeness::{UNLIKE_MAX, unlikeness};

use std::hash::Hash;

use chain::Chains;
use serde::{Deserialize, Serialize};

/// What happened to one token.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
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

/// What speaks against a pair of tokens beside their being different; it decides among paths of equal edits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Against {
    /// How far apart in time the two are, 0 (they overlap, or have no times) to [`APART_MAX`].
    pub apart: u8,
    /// How little they look alike, 0 to [`UNLIKE_MAX`]; asked only of tokens that differ.
    pub unlike: u8,
}

/// The distance in time of tokens that are nowhere near each other.
pub const APART_MAX: u8 = 15;

/// Aligns and counts pair after pair; what it allocates serves the next one.
#[derive(Debug, Clone, Default)]
pub struct Aligner {
    chains: Chains,
    steps: Vec<Step>,
}

impl Aligner {
    /// Whether something was so long and so unlike since this was last asked that it was aligned piece by piece: its edits are then no
    /// fewer than the fewest.
    pub fn took_pieces(&mut self) -> bool {
        std::mem::take(&mut self.chains.in_pieces)
    }

    /// The steps of the best alignment, in reading order; see [`align`].
    ///
    /// # Panics
    /// When either side has more than 536,870,911 tokens.
    pub fn align<T: Eq + Hash>(
        &mut self,
        said: &WordGraph<T>,
        heard: &[T],
        against: impl Fn(usize, usize, bool) -> Against,
    ) -> &[Step] {
        let Some(links) = said.links() else { return self.align_chain(said.words(), heard, against) };
        self.steps = search::align_graph(said.words(), links, heard, against);
        &self.steps
    }

    /// [`Self::align`] with a label without choices, of which `against` is told places.
    ///
    /// # Panics
    /// When either side has more than 536,870,911 tokens.
    pub fn align_chain<T: Eq + Hash>(
        &mut self,
        said: &[T],
        heard: &[T],
        against: impl Fn(usize, usize, bool) -> Against,
    ) -> &[Step] {
        self.steps.clear();
        self.chains.align(said, heard, against, &mut self.steps);
        &self.steps
    }

    /// [`count_edits`].
    pub fn count<T: Eq + Hash>(&mut self, said: &[T], heard: &[T]) -> EditCounts {
        self.chains.count(said, heard)
    }

    /// [`count_character_edits`].
    pub fn count_characters(&mut self, said: &str, heard: &str) -> EditCounts {
        self.chains.count_characters(said, heard)
    }

    /// [`Self::count_characters`] of texts known to be ASCII.
    ///
    /// # Panics
    /// When they are not.
    pub(crate) fn count_ascii(&mut self, said: &str, heard: &str) -> EditCounts {
        self.chains.count_ascii(said.as_bytes(), heard.as_bytes())
    }
}

/// Aligns the heard tokens with the label. `against` is told a node of the label's graph, the index of a heard token and
/// whether the two are the same token.
///
/// Two plain sequences take time proportional to length times errors over 64, and memory that grows with the length
/// alone. A label with choices takes time and memory proportional to words times errors.
///
/// # Panics
/// When either side has more than 536,870,911 tokens.
pub fn align<T: Eq + Hash>(
    said: &WordGraph<T>,
    heard: &[T],
    against: impl Fn(usize, usize, bool) -> Against,
) -> Alignment {
    let mut aligner = Aligner::default();
    aligner.align(said, heard, against);
    Alignment { steps: aligner.steps }
}

/// Counts the edits between two sequences of tokens without keeping the path. The counts are those [`align`] gives, and so
/// is the cost.
#[must_use]
pub fn count_edits<T: Eq + Hash>(said: &[T], heard: &[T]) -> EditCounts {
    Aligner::default().count(said, heard)
}

/// The fewest edits between two sequences, where nothing else is asked. Cost is linear in either side up to 64 tokens.
#[must_use]
pub fn edit_distance<T: Eq + Hash>(said: &[T], heard: &[T]) -> u64 {
    chain::short_distance(said, heard).unwrap_or_else(|| count_edits(said, heard).errors())
}

/// Counts the edits between the characters of two texts, as a reader counts them (extended grapheme clusters, UAX 29).
#[must_use]
pub fn count_character_edits(said: &str, heard: &str) -> EditCounts {
    Aligner::default().count_characters(said, heard)
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
        EditCounts::of(&self.steps)
    }

    /// The label's words on the path taken, as nodes of its graph.
    pub fn said_path(&self) -> impl Iterator<Item = usize> + '_ {
        self.steps.iter().filter_map(|step| step.said)
    }
}
