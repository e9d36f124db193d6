//! What variants are called on a page.

use fonex_analysis::{RunView, Side};

/// The names of the variants of some runs.
pub struct Names<'n> {
    runs: &'n [RunView],
}

impl<'n> Names<'n> {
    pub const fn new(runs: &'n [RunView]) -> Self {
        Self { runs }
    }

    /// The name of a variant on this page: with its run where several runs have it.
    pub fn of(&self, side: Side<'_>) -> String {
        let name = &side.variant.variant.name;
        let have = |run: &&RunView| run.variants.iter().any(|variant| variant.variant.name == *name);
        if self.runs.iter().filter(have).count() == 1 { name.clone() } else { side.name() }
    }
}
