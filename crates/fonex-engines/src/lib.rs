//! The transports by which Fonex reaches engines. Every misbehaviour becomes an [`Outcome`], never a failed run.

mod command;
mod config;
mod mapping;
pub mod process;
mod standin;
mod stop;
mod template;

use std::collections::BTreeMap;

use fonex_core::audio::Audio;
use fonex_core::{Heard, Outcome};

pub use command::{CommandConfig, CommandEngine, Container, ResultConfig};
pub use config::{COMMON_KEYS, EngineConfig, Task, Transport, build_engine};
pub use mapping::WordFields;
pub use standin::StandInConfig;
pub use stop::StopFlag;

/// An engine under test. Calls come from several threads at once.
pub trait Engine: Send + Sync {
    /// What the engine says its version is, where it can tell.
    fn version(&self) -> Option<String>;

    /// In which form the engine is given audio: container, rate, width. One channel always.
    fn given(&self) -> String;

    /// Has a clip heard.
    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard>;

    /// Has a text spoken.
    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio>;
}

/// The engine-specific knobs of a variant.
pub type Settings = BTreeMap<String, String>;

/// Which of an engine's forms is asked.
#[derive(Debug, Clone, Copy)]
pub struct Form<'r> {
    /// Model, empty where the engine has none to choose from.
    pub model: &'r str,
    /// Voice, empty for recognisers.
    pub voice: &'r str,
    /// Settings of the variant.
    pub settings: &'r Settings,
}

/// A clip to be heard. The label is not in it.
#[derive(Debug, Clone, Copy)]
pub struct HearRequest<'r> {
    /// Id of the clip.
    pub clip_id: &'r str,
    /// Language of the clip, where it is labelled.
    pub lang: Option<&'r str>,
    /// The sound as decoded from the corpus.
    pub audio: &'r Audio,
    /// Which form of the engine.
    pub form: Form<'r>,
    /// Set when the run is being stopped.
    pub stop: &'r StopFlag,
}

/// A text to be spoken.
#[derive(Debug, Clone, Copy)]
pub struct SpeakRequest<'r> {
    /// Id of the clip.
    pub clip_id: &'r str,
    /// Language of the text, where it is labelled.
    pub lang: Option<&'r str>,
    /// The text, one reading of it.
    pub text: &'r str,
    /// Which form of the engine.
    pub form: Form<'r>,
    /// Set when the run is being stopped.
    pub stop: &'r StopFlag,
}

/// How a call ended, with all that was measured of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Answer<T> {
    /// How it ended.
    pub outcome: Outcome,
    /// The engine's own words or ours about what went wrong, cut at a sane length.
    pub detail: Option<String>,
    /// What came back, for an answer.
    pub value: Option<T>,
    /// Wall time in milliseconds. For a command from the start of the program to its end; preparing its input and
    /// reading its output files lie outside. None when the engine could not be started.
    pub took_ms: Option<f64>,
    /// Processor seconds of the engine's processes, where they are ours to measure.
    pub cpu_s: Option<f64>,
    /// Peak resident memory of the engine's largest process in KiB.
    pub peak_memory_kib: Option<u64>,
}

impl<T> Answer<T> {
    /// A call that ended without an answer.
    #[must_use]
    pub fn failed(outcome: Outcome, detail: impl Into<String>) -> Self {
        let detail = Some(cut(&detail.into()));
        Self { outcome, detail, value: None, took_ms: None, cpu_s: None, peak_memory_kib: None }
    }
}

/// Keeps the beginning of a message: an engine may say anything, at any length. Control characters become spaces.
fn cut(message: &str) -> String {
    const LONGEST: usize = 500;
    let clean: String = message.chars().map(|c| if c.is_control() { ' ' } else { c }).take(LONGEST + 1).collect();
    let clean = clean.trim();
    match clean.char_indices().nth(LONGEST) {
        Some((at, _)) => format!("{}…", &clean[..at]),
        None => clean.to_owned(),
    }
}
