//! Where runs are kept: every trial in one embedded database, each written in a transaction of its own.

mod audio_files;
mod error;
mod kept;
mod listed;
mod lock;
mod records;
mod runs;
mod schema;
mod store;
mod studies;
mod tidy;
mod trials;

pub use audio_files::AudioFiles;
pub use error::StoreError;
pub use kept::{FactsKey, KeepingFacts, KeptFact};
pub use listed::ListedRun;
pub use lock::RunLock;
pub use records::{Busy, LeftOut, Machine, NewRun, Run, RunState, TrialKey, TrialRecord, Variant};
pub use runs::RunRef;
pub use store::Store;
pub use studies::{Study, StudyKind};
pub use trials::{Spoken, StoredTrial};
