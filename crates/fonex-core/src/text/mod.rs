//! From text as written to the tokens that are compared.
//!
//! A [`TextProfile`] is an ordered list of [`TextStep`]s; a [`Label`] is a reference text with its alternatives.

mod label;
mod profile;
mod steps;

pub use label::{Label, LabelError, LabelPart};
pub use profile::{TextProfile, UnknownProfile};
pub use steps::TextStep;
