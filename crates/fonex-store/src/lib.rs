//! Where runs are kept: every trial in one embedded database, each written in a transaction of its own.

mod audio_files;
mod kept;
mod records;
mod schema;
mod store;
mod studies;

pub use audio_files::AudioFiles;
pub use kept::{FactsKey, KeptFact};
pub use records::{Busy, LeftOut, Machine, NewRun, Run, RunState, TrialKey, TrialRecord, Variant};
pub use store::{RunLock, RunRef, Store, StoreError};
pub use studies::{Study, StudyKind};
