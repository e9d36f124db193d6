//! The measures of Fonex as pure computation.
//!
//! Plain values in, plain values out: no files, no sockets, no clock, no terminal. Every method says in its
//! documentation where it comes from and what it costs.

pub mod accuracy;
pub mod align;
pub mod audio;
pub mod captions;
pub mod clip;
pub mod cost;
mod delivery;
pub mod latency;
pub mod material;
pub mod measures;
pub mod outcome;
pub mod panel;
mod parallel;
pub mod speech;
pub mod stats;
mod tables;
mod task;
pub mod text;
pub mod timing;
pub mod verdict;

/// A hash table of our own values, hashed fast and alike at every run.
pub(crate) type Table<K, V> = std::collections::HashMap<K, V, foldhash::fast::FixedState>;

pub use clip::{Alternative, Clip, Heard, HeardWord, Side, Tags, TimedWord};
pub use delivery::{Delivery, ImpossibleDelivery, Pace};
pub use outcome::Outcome;
pub use parallel::in_parallel;
pub use task::Task;
