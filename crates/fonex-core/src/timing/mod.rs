//! Word times against labels: where the engine says a word is, and where it is.

mod boundaries;
mod offsets;
mod summary;

pub use boundaries::{Boundaries, BoundariesBuilder, BoundariesWithin};
pub use offsets::{ClipOffsets, WordOffset, word_offsets};
pub use summary::{OffsetSummary, Timing, TimingBuilder};
