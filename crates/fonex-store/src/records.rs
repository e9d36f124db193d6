//! What is stored of a run: plain records, the same for every kind of store.

use std::collections::BTreeMap;

use fonex_core::audio::AudioMeasures;
use fonex_core::cost::{Prices, Usage};
use fonex_core::latency::Traffic;
use fonex_core::speech::SpeechMeasures;
use fonex_core::text::TextProfile;
use fonex_core::{Clip, Delivery, Heard, Outcome, Task};
use serde::{Deserialize, Serialize};

/// The machine a run was made on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Machine {
    /// Processor model.
    pub cpu: String,
    /// Cores the program may use.
    pub cores: usize,
    /// Memory in MiB.
    pub memory_mib: u64,
    /// Operating system and its version.
    pub os: String,
    /// Load average over the minute before the run.
    pub load_1m: Option<f64>,
    /// How busy the machine was while the run went on; left out where the system does not tell, and until the run has ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub during: Option<Busy>,
}

/// How busy a machine was while a run went on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Busy {
    /// Share of all processor time that other processes took, median over the looks.
    pub others: f64,
    /// The same at the 95th percentile of the looks.
    pub others_p95: f64,
    /// Share of processor time that this program and its engines took, median.
    pub own: f64,
    /// Times the processor was slowed down by its temperature or power, where the system counts them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttled: Option<u64>,
    /// Looks taken.
    pub looks: u64,
}

/// How far a run has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum RunState {
    /// Being executed, or killed in the middle.
    Unfinished,
    /// Every trial has an outcome.
    Finished,
}

/// A run about to start.
#[derive(Debug, Clone, PartialEq)]
pub struct NewRun {
    /// A name for people, such as a week or a build.
    pub label: Option<String>,
    /// The plan's name in the bench file.
    pub plan: String,
    /// The commit of the sources it was made of.
    pub commit: Option<String>,
    /// When it started, RFC 3339 in UTC.
    pub started_at: String,
    /// Seed of everything random in it.
    pub seed: u64,
    /// What makes two executions the same run: checksum of the resolved plan, engines, profile and corpus.
    pub fingerprint: String,
    /// Version of Fonex.
    pub fonex_version: String,
    /// The text profile it is scored under.
    pub text_profile: TextProfile,
    /// The corpus as given.
    pub corpus_path: String,
    /// Checksum of the corpus.
    pub corpus_checksum: String,
    /// Checksum of the bench file.
    pub bench_checksum: String,
    /// Overrides given on the command line.
    pub overrides: Vec<String>,
    /// The machine.
    pub machine: Machine,
    /// Timed trials planned.
    pub planned: u64,
    /// The variants, in the order of the plan.
    pub variants: Vec<Variant>,
    /// The labels, in corpus order.
    pub clips: Vec<Clip>,
    /// Clips that could not be used.
    pub left_out: Vec<LeftOut>,
    /// What people noted about it.
    pub notes: Vec<RunNote>,
}

/// What a person noted about a run: what was decided, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RunNote {
    /// The note.
    pub text: String,
    /// Who wrote it.
    pub by: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
}

/// A stored run without its labels.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Run {
    /// Number in this store, from 1.
    pub id: i64,
    /// A name for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// The plan's name.
    pub plan: String,
    /// The commit of the sources it was made of, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
    /// How far it has come.
    pub state: RunState,
    /// When it started, RFC 3339 in UTC.
    pub started_at: String,
    /// When its last trial ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finished_at: Option<String>,
    /// Seed of everything random in it.
    pub seed: u64,
    /// Version of Fonex.
    pub fonex_version: String,
    /// The text profile it is scored under.
    pub text_profile: TextProfile,
    /// The corpus as given.
    pub corpus_path: String,
    /// Checksum of the corpus.
    pub corpus_checksum: String,
    /// Checksum of the bench file.
    pub bench_checksum: String,
    /// Overrides given on the command line.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub overrides: Vec<String>,
    /// The machine.
    pub machine: Machine,
    /// Timed trials planned.
    pub planned: u64,
    /// The variants, in the order of the plan.
    pub variants: Vec<Variant>,
    /// Clips that could not be used.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOut>,
    /// What people noted about it, oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<RunNote>,
}

/// One column of a comparison: engine, model, voice and settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Variant {
    /// All of it in one name, such as `marl/river`.
    pub name: String,
    /// The engine's name.
    pub engine: String,
    /// What the engine does.
    pub task: Task,
    /// How the engine is reached.
    pub transport: String,
    /// Model, empty where there is none.
    pub model: String,
    /// Voice, empty where there is none.
    pub voice: String,
    /// Settings.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
    /// What the engine said its version is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engine_version: Option<String>,
    /// How audio reached it; left out where it was sent whole.
    #[serde(default, skip_serializing_if = "is_whole")]
    pub delivery: Delivery,
    /// Languages the voice lists; empty where that is not known.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub languages: Vec<String>,
    /// What the engine charged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prices: Option<Prices>,
    /// Of a recogniser that hears what a voice of the same run spoke: the place of that voice's variant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hears: Option<usize>,
}

impl Variant {
    /// A label as it holds for what this variant is given: its times are those of the corpus's own audio.
    #[must_use]
    pub fn label(&self, clip: Clip) -> Clip {
        if self.hears.is_none() {
            return clip;
        }
        Clip { words: Vec::new(), segments: Vec::new(), ..clip }
    }
}

fn is_whole(delivery: &Delivery) -> bool {
    *delivery == Delivery::Whole
}

/// A clip that a run could not use.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LeftOut {
    /// The clip.
    pub clip_id: String,
    /// Why.
    pub reason: String,
}

/// Which trial of a run.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TrialKey {
    /// Place of the variant in the run.
    pub variant: usize,
    /// The clip.
    pub clip_id: String,
    /// From 0; warm-up trials count apart.
    pub repeat: u32,
    /// Whether it only warms up: not scored, not timed.
    pub warm_up: bool,
}

/// Who made a trial of a run that is spread over several machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Maker {
    /// The worker's name.
    pub worker: String,
    /// The class of its machine: figures of one class can be held against each other.
    pub class: String,
}

/// One clip through one variant once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TrialRecord {
    /// Which trial.
    #[serde(flatten)]
    pub key: TrialKey,
    /// How it ended.
    pub outcome: Outcome,
    /// What went wrong, in the engine's words or ours.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// Milliseconds from the start of this execution of the run.
    pub started_ms: f64,
    /// Wall time of the call in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took_ms: Option<f64>,
    /// Seconds of audio heard or spoken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio_s: Option<f64>,
    /// What the clip's audio was and in which form the engine was given it, for recognisers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prepared: Option<String>,
    /// Processor seconds of the engine, where measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpu_s: Option<f64>,
    /// Peak memory of the engine in KiB, where measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_memory_kib: Option<u64>,
    /// What was heard.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard: Option<Heard>,
    /// Name of the synthesised audio among the store's audio files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio_file: Option<String>,
    /// Measures of the synthesised audio.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measures: Option<AudioMeasures>,
    /// How it is spoken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speech: Option<SpeechMeasures>,
    /// What was replied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replied: Option<String>,
    /// Milliseconds until the first text or sound, where the answer came in pieces.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_ms: Option<f64>,
    /// Everything exchanged, failed attempts included.
    #[serde(default, skip_serializing_if = "Traffic::is_empty")]
    pub traffic: Traffic,
    /// What was used of the engine, as it is charged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used: Option<Usage>,
    /// Who made it, where the run was spread over several machines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made_by: Option<Maker>,
}

impl TrialRecord {
    /// A trial that was not made: nothing of it was measured.
    #[must_use]
    pub fn failed(key: TrialKey, outcome: Outcome, why: String) -> Self {
        Self {
            key,
            outcome,
            detail: Some(why),
            started_ms: 0.0,
            took_ms: None,
            audio_s: None,
            prepared: None,
            cpu_s: None,
            peak_memory_kib: None,
            heard: None,
            audio_file: None,
            measures: None,
            speech: None,
            replied: None,
            first_ms: None,
            traffic: Traffic::default(),
            used: None,
            made_by: None,
        }
    }
}
