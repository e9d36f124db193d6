//! Where runs are kept: every trial in one database, embedded or a team's, each written in a transaction of its own.

mod audio_files;
mod check;
mod copy;
mod database;
mod error;
mod kept;
mod listed;
mod lock;
mod records;
mod retried;
mod runs;
mod schema;
mod store;
mod studies;
mod tidy;
mod trials;

pub use audio_files::{AudioFiles, is_audio_name};
pub use check::Checked;
pub use copy::CopiedRun;
pub use error::StoreError;
pub use kept::{FactsKey, KeepingFacts, KeptFact};
pub use listed::ListedRun;
pub use lock::RunLock;
pub use records::{Busy, LeftOut, Machine, Maker, NewRun, Run, RunNote, RunState, TrialKey, TrialRecord, Variant};
pub use runs::{RunRef, Taken};
#[cfg(feature = "postgres")]
pub use store::ServerPlace;
pub use store::{Store, StorePlace};
pub use studies::{Study, StudyKind};
pub use tidy::{Pruned, Pruning};
pub use trials::{Spoken, StoredTrial};
