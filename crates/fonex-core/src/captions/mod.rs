//! Captions from words with times, cut as a reader wants them, and the faults of captions that exist.

mod check;
mod cut;

pub use check::{CaptionCheck, CaptionFault, CaptionFaultCount, check_captions};
pub use cut::{Caption, CaptionRule, cut_captions, timed};
