//! Executing what a bench file says: plans, load, turns of a conversation.

mod bench;
mod execute;
mod load;
#[cfg(feature = "spread")]
mod spread;
mod turns;

use std::collections::HashMap;
use std::fs;
use std::io::ErrorKind;
use std::sync::Arc;

use fonex_core::Clip;
use fonex_engines::{Engine, EngineConfig, build_engine};
use fonex_formats::{Place, Problem, Problems};
use fonex_store::StoreError;

pub use bench::{
    Bench, BenchFile, Budget, Gate, Plan, PlannedVariant, StoreChoice, folder_of, profile_checksum, read_bench,
    read_profile, read_toml, unknown, voice_condition,
};
pub use execute::{
    Execution, Forecast, Heardable, Heeding, Interrupt, Progress, Sound, Source, Which, execute, forecast,
    hear_of_file_limits, now, this_machine,
};

pub use load::{LoadSteps, LoadWatch, Loaded, put_load};
#[cfg(feature = "spread")]
pub use spread::{
    Job, Lookout, Seen, SeenJob, SeenWorker, SpreadAccess, SpreadAddress, SpreadOptions, WorkOptions, WorkReport,
    WorkerState, Working, clear, execute_spread, work,
};
pub use turns::{BrokenOff, Conversation, Dialogue, TurnPlan, take_turns};

/// What is wrong with a store, and what to do.
#[must_use]
pub fn store_problem(error: &StoreError) -> Problem {
    let problem = Problem::new(error.to_string(), Place::default());
    match error {
        StoreError::Database(_) | StoreError::Record(_) => {
            problem.remedy("check that .fonex/runs.db beside the bench file is a Fonex store and is writable")
        }
        _ if is_full(error) => problem.remedy(
            "free some space (or raise the file size limit) and repeat the command: every finished trial is kept",
        ),
        StoreError::Full(_) | StoreError::ReadOnly(_) | StoreError::Io(_) => {
            problem.remedy("check that the folder .fonex beside the bench file is writable")
        }
        StoreError::Damaged { run, .. } => {
            problem.remedy(format!("delete the run (fonex runs delete {run}), or bring the store back from a copy"))
        }
        StoreError::Cell { .. } | StoreError::NoRow => {
            problem.remedy("look at it with fonex store check, and bring the store back from a copy")
        }
        StoreError::Address { .. } => problem.expected("a folder, or postgres://USER@HOST:PORT/DATABASE"),
        StoreError::Unreachable { .. } => {
            problem.remedy("check that the server runs and can be reached from here, then repeat the command; a run goes on where it was")
        }
        StoreError::Refused { .. } => problem
            .remedy("check user, database and password: the password comes from PGPASSWORD, or stands in FONEX_STORE"),
        StoreError::NotAllowed { .. } => {
            problem.remedy("a user who may only look can show, compare and report, but not run or delete")
        }
        StoreError::Older { .. }
        | StoreError::Newer { .. }
        | StoreError::Busy(_)
        | StoreError::Empty
        | StoreError::Arrived { .. }
        | StoreError::Server { .. }
        | StoreError::ServerFull { .. }
        | StoreError::TooOld { .. } => problem,
    }
}

/// Whether there is no room left.
fn is_full(error: &StoreError) -> bool {
    match error {
        StoreError::Full(_) | StoreError::ServerFull { .. } => true,
        StoreError::Io(error) => {
            matches!(error.kind(), ErrorKind::StorageFull | ErrorKind::QuotaExceeded | ErrorKind::FileTooLarge)
        }
        _ => false,
    }
}

/// Why something could not be done: what is wrong with the input, or with the store.
#[derive(Debug)]
pub struct RunError(pub Problems);

impl From<Problems> for RunError {
    fn from(problems: Problems) -> Self {
        Self(problems)
    }
}

impl From<Problem> for RunError {
    fn from(problem: Problem) -> Self {
        Self(problem.into())
    }
}

impl From<StoreError> for RunError {
    fn from(error: StoreError) -> Self {
        Self(store_problem(&error).into())
    }
}

/// Calls an engine outside a run; its temporary files live in a folder of this call.
///
/// # Errors
/// When the engine cannot be built.
pub fn with_engine<T>(
    config: &EngineConfig,
    bench: &Bench,
    labels: HashMap<String, Clip>,
    call: impl FnOnce(&dyn Engine) -> T,
) -> Result<T, Problem> {
    let scratch = std::env::temp_dir().join(format!("fonex-{}", std::process::id()));
    let engine = build_engine(config, &bench.surroundings(scratch.clone(), Arc::new(labels))?)?;
    let answer = call(engine.as_ref());
    // Trials remove their own files; what is left is the empty folder around them.
    drop(fs::remove_dir_all(&scratch));
    Ok(answer)
}
