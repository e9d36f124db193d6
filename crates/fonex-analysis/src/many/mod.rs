//! More than two variants beside each other: who beats whom, which clips changed sides, and what choosing by slice would gain.

mod by_slice;
mod flips;

pub use by_slice::{BestBySlice, Choice, best_by_slice};
pub(crate) use flips::changed;
pub use flips::{Flip, FlipSide, FlipSides, Flips, flips};

use crate::compare::{Side, comparable};

/// Every variant against every later one that does the same.
#[must_use]
pub fn all_pairs<'s>(sides: &[Side<'s>]) -> Vec<(Side<'s>, Side<'s>)> {
    let mut pairs = Vec::new();
    for group in comparable(sides) {
        for (at, first) in group.iter().enumerate() {
            pairs.extend(group[at + 1..].iter().map(|second| (*first, *second)));
        }
    }
    pairs
}
