//! Reading and writing what Fonex works on: corpora, results, captions, audio containers.
//!
//! Readers are strict: what they do not understand is a [`Problem`] with file, line and field, never dropped.

pub mod audio;
/// The latest time in a recording that is taken for one, in seconds: four months.
pub const LATEST_S: f64 = 1e7;

/// The greatest number that an engine gives as a time: the latest moment in nanoseconds. What is not in seconds is recognised
/// and left out where times are compared.
pub const GREATEST_HEARD_TIME: f64 = 1e16;
/// Bytes of a text of one recording: more than a person says in three days.
pub const LONGEST_TEXT: usize = 4 << 20;

mod caption_writer;
pub mod captions;
pub mod checksum;
mod columnar;
mod corpus;
mod file_name;
mod folder;
mod heard;
mod join;
mod lines;
mod pieces;
mod problem;
mod quotes;
pub mod regular;
mod share;
mod strict;
mod table;
#[cfg(any(feature = "parquet", test))]
mod until_end;

pub use caption_writer::{CaptionForm, write_captions};
pub use corpus::{Corpus, audio_path, corpus_folder, corpus_line, read_corpus};
pub use file_name::file_name_of;
pub use folder::audio_beside;
pub use heard::{HeardFile, HeardRecord, heard_line, read_heard};
pub use join::{Joined, Pair, PartWork, can_join, listed_terms, lists_terms_early, work_on};
pub use pieces::input_bytes;
pub use problem::{Place, Problem, Problems, io_reason, nearest};
pub use share::Share;
pub use strict::{parse_strict, serde_problem, value_strict};
pub use table::{MappedTable, read_mapped};
