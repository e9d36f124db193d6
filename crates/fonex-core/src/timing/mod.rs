//! Word times against labels: where the engine says a word is, and where it is.

mod boundaries;
mod faults;
mod jumps;
mod offsets;
mod spans;
mod summary;

pub use boundaries::{Boundaries, BoundariesBuilder, BoundariesWithin};
pub use faults::{TimeFaults, other_unit, time_faults};
pub use jumps::{Jump, jumps};
pub use offsets::{ClipOffsets, UNKNOWN_UNIT, WordOffset, divided_among_words, word_offsets};
pub use spans::{Span, token_spans};
pub use summary::{OffsetSummary, Timing, TimingBuilder};
