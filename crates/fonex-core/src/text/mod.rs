//! From text as written to the tokens that are compared.
//!
//! A [`TextProfile`] is an ordered list of [`TextStep`]s; a [`Label`] is a reference text with its alternatives.

mod bytes;
mod forms;
mod join;
mod joined;
mod label;
mod markup;
mod numbers;
mod plain;
mod profile;
mod replace;
mod segments;
mod sentences;
mod steps;
mod vocabulary;

pub(crate) use bytes::{alike_at_end, alike_at_start};
pub use join::{HeardPiece, join_pieces};
pub(crate) use joined::{Joined, JoinedToken};
pub use label::{Label, LabelError, LabelPart, plain_label};
pub use numbers::NumberLanguage;
pub use profile::{TextProfile, Token, UnknownProfile, each_word};
pub use replace::{Pattern, WordMap};
pub use segments::graphemes;
pub use sentences::{WordTooLong, split_at_sentences};
pub use steps::TextStep;
pub(crate) use vocabulary::Numbering;
pub use vocabulary::Vocabulary;
