//! Runs that are spread over several machines: trials go through a work queue of NATS JetStream, sound through its object store.
//!
//! Who runs a plan puts groups of trials on a queue and stores what comes back; workers take groups, make them with their own bench file,
//! and let go of a group only once its result is safely published. A group whose worker vanished comes again after its lease. Results are
//! stored by their trials, so that one that comes twice is stored once. No command, no file name and no key travels: a worker runs what its
//! own bench file says, and takes a job only where that is what the job is of.

mod access;
mod at_work;
mod coordinate;
mod link;
mod look;
mod pace;
mod shown;
mod work;

use std::collections::BTreeMap;

use fonex_core::Clip;
use fonex_formats::{Place, Problem, checksum};
use fonex_store::{Spoken, TrialKey, TrialRecord};
use serde::{Deserialize, Serialize};

use crate::bench::{Bench, Plan};

pub use access::{SpreadAccess, SpreadAddress};
pub use coordinate::{SpreadOptions, execute_spread};
pub use look::{Lookout, Seen, SeenJob, SeenWorker};
pub use work::{WorkOptions, WorkReport, Working, clear, work};

/// The version of what travels.
const FORM: u32 = 1;
/// The bucket of jobs, by their tokens.
const JOBS: &str = "fonex_jobs";
/// The bucket of workers at work, by their names; what is not renewed goes.
const WORKERS: &str = "fonex_workers";
/// The bucket of turns at engines.
const TURNS: &str = "fonex_turns";
/// The bucket of sound and of results that are too long for a message.
const OBJECTS: &str = "fonex_objects";

/// A run that is to be made by others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Job {
    /// The version of what travels.
    pub form: u32,
    /// The version of Fonex.
    pub fonex: String,
    /// Its plan.
    pub plan: String,
    /// Its label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// When the run started.
    pub started_at: String,
    /// Checksum of the plan, its engines, the text profile and the seed, without the corpus: a worker's bench file has to give the same.
    pub bench: String,
    /// The object with its clips.
    clips: String,
    /// Only workers of this class of machine take it, where it is pinned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<String>,
    /// Groups of trials in all.
    pub groups: u64,
    /// Groups that are on the queue, or have been.
    put: u64,
    /// Seconds after which a group whose worker is silent comes again.
    pub lease_s: u64,
    /// Deliveries after which a group is given up.
    pub most_deliveries: i64,
}

/// A clip of a job, as a line of its clips.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct JobClip {
    clip: Clip,
    /// The object with its sound: its checksum and its ending.
    sound: Option<String>,
}

/// Trials that one worker makes one after the other.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct GroupMessage {
    keys: Vec<TrialKey>,
    /// What the voice of the group spoke before, when the run was interrupted.
    spoken: Option<SpokenBefore>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SpokenBefore {
    outcome: fonex_core::Outcome,
    audio_file: Option<String>,
}

impl From<SpokenBefore> for Spoken {
    fn from(before: SpokenBefore) -> Self {
        Self { outcome: before.outcome, audio_file: before.audio_file }
    }
}

/// What became of a group.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct ResultMessage {
    /// The trials of the group.
    keys: Vec<TrialKey>,
    /// Its trials, and warm-up trials that were made before.
    trials: Vec<TrialRecord>,
    /// Why some of its trials were not begun.
    not_begun: Option<String>,
    /// What the engines said their versions are, by engine.
    versions: BTreeMap<String, String>,
}

/// A worker at work.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WorkerState {
    /// Its name.
    pub name: String,
    /// What tells it from another of the same name.
    pub id: String,
    /// The version of Fonex.
    pub fonex: String,
    /// Its class of machine.
    pub class: String,
    /// Its processor.
    pub cpu: String,
    /// Since when it is at work, RFC 3339.
    pub since: String,
    /// The plan it works on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<String>,
    /// Trials it has made.
    pub trials: u64,
    /// Trials of them without an answer.
    pub failed: u64,
}

/// The entry, among those of workers, that shows that somebody stores what a job gives.
fn asked_key(token: &str) -> String {
    format!("asks.{token}")
}

/// A name as a key of the key-value store, which has only some signs: no two names give the same.
fn key_of(name: &str) -> String {
    let sign = |byte: u8| match byte {
        b'0'..=b'9' | b'a'..=b'z' | b'A'..=b'Z' | b'-' => char::from(byte).to_string(),
        other => format!("_{other:02x}"),
    };
    name.bytes().map(sign).collect()
}

/// Names of a job's queue and of what comes back.
struct Names {
    todo: String,
    done: String,
}

impl Names {
    fn of(token: &str) -> Self {
        Self { todo: format!("fonex_{token}_todo"), done: format!("fonex_{token}_done") }
    }
}

/// What a job is of, without its corpus: the same at whoever asks and at whoever works.
fn bench_print(bench: &Bench, plan: &Plan) -> String {
    checksum::of_bytes(crate::execute::print_of(bench, plan, "").as_bytes())
}

/// What is sent to another machine.
fn message<T: Serialize>(value: &T) -> Result<Vec<u8>, Problem> {
    serde_json::to_vec(value).map_err(|error| Problem::new(format!("cannot be sent: {error}"), Place::default()))
}

/// What went wrong with the servers between machines.
fn problem(what: impl Into<String>, address: &SpreadAddress) -> Problem {
    let what = what.into();
    // How servers say that their storage is full (error codes 10023 and 10047).
    if ["10023", "10047", "insufficient"].iter().any(|said| what.contains(said)) {
        return Problem::new(what, Place::default()).remedy(format!(
            "give {address} more storage (max_file_store), or remove old jobs: fonex work {address} --clear"
        ));
    }
    Problem::new(what, Place::default()).remedy(format!(
        "check that {address} is a NATS server with JetStream (nats-server -js) and lets this user in, then repeat the command"
    ))
}
