//! Edit counts, the raw material of every error rate.

use std::iter::Sum;
use std::ops::{Add, AddAssign};

use serde::{Deserialize, Serialize};

use super::{Edit, Step};

/// How many tokens were right, substituted, deleted and inserted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct EditCounts {
    /// Said and heard.
    pub correct: u64,
    /// Heard as another token.
    pub substituted: u64,
    /// Said and not heard.
    pub deleted: u64,
    /// Heard and not said.
    pub inserted: u64,
}

impl EditCounts {
    /// The counts of an alignment.
    #[must_use]
    pub fn of(steps: &[Step]) -> Self {
        let mut counts = Self::default();
        steps.iter().for_each(|step| counts.record(step.edit));
        counts
    }

    /// Tokens in the label.
    #[must_use]
    pub const fn reference(&self) -> u64 {
        self.correct + self.substituted + self.deleted
    }

    /// Tokens heard.
    #[must_use]
    pub const fn heard(&self) -> u64 {
        self.correct + self.substituted + self.inserted
    }

    /// Substitutions, deletions and insertions together.
    #[must_use]
    pub const fn errors(&self) -> u64 {
        self.substituted + self.deleted + self.inserted
    }

    /// Counts one token.
    pub const fn record(&mut self, edit: Edit) {
        match edit {
            Edit::Correct => self.correct += 1,
            Edit::Substituted => self.substituted += 1,
            Edit::Deleted => self.deleted += 1,
            Edit::Inserted => self.inserted += 1,
        }
    }
}

impl AddAssign for EditCounts {
    fn add_assign(&mut self, other: Self) {
        self.correct += other.correct;
        self.substituted += other.substituted;
        self.deleted += other.deleted;
        self.inserted += other.inserted;
    }
}

impl Add for EditCounts {
    type Output = Self;

    fn add(mut self, other: Self) -> Self {
        self += other;
        self
    }
}

impl Sum for EditCounts {
    fn sum<I: Iterator<Item = Self>>(counts: I) -> Self {
        counts.fold(Self::default(), Add::add)
    }
}
