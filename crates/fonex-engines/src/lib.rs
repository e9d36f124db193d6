//! The transports by which Fonex reaches engines. Every misbehaviour becomes an [`Outcome`], never a failed run.

mod audio_form;
mod captioned;
mod command;
mod config;
mod deliver;
#[doc(hidden)]
pub mod fuzzed;
mod guard;
mod hands;
mod http;
mod json;
mod juggled;
mod live;
mod mapping;
mod net;
pub mod notice;
mod panics;
pub mod process;
mod recorded;
mod rules;
mod secrets;
mod socket;
mod spoken;
mod standin;
mod stop;
mod table_schema;
mod template;
mod values;
mod voices;
mod worker;

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::time::Duration;

use fonex_core::audio::Audio;
use fonex_core::latency::Traffic;
use fonex_core::speech::AskedSound;
use fonex_core::{Heard, Outcome};

pub use audio_form::{AudioForm, Container};
pub use command::{CommandConfig, CommandEngine};
pub use config::{COMMON_KEYS, EngineConfig, Surroundings, Transport, build_engine};
pub use deliver::hear_by;
pub use fonex_core::{Delivery, Pace, Task};
pub use guard::{Limits, LongText, Retry, SharedPace};
pub use http::HttpConfig;
pub use juggled::{Juggled, Request, Trial, juggle};
use live::{Frame, Frames};
pub use live::{Live, Recording};
pub use mapping::{Address, ResultConfig, TimeUnit, WordFields};
pub use net::percent_encoded;
pub use panics::{caught, panic_message};
pub use recorded::RecordedConfig;
pub use secrets::{Redaction, Secrets};
pub use socket::SocketConfig;
pub use standin::StandInConfig;
pub use stop::StopFlag;
pub use table_schema::EngineTable;
pub use voices::{VOICE_FIELDS, Voice, VoiceCatalogue, lists_language};
pub use worker::WorkerConfig;

/// An engine under test. Calls come from several threads at once.
pub trait Engine: Send + Sync {
    /// What the engine says its version is, where it can tell.
    fn version(&self) -> Option<String>;

    /// In which form the engine is given audio: container, rate, width. One channel always.
    fn given(&self) -> String;

    /// In which form it is asked to give sound, where it is told.
    fn asked_sound(&self) -> AskedSound {
        AskedSound::default()
    }

    /// Has a clip heard.
    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard>;

    /// Has a text spoken.
    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio>;

    /// Whether audio can be delivered to it piece by piece while it is spoken.
    fn takes_live(&self) -> bool {
        false
    }

    /// Has a text replied to.
    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let _ = request;
        Answer::failed(Outcome::Refused, "this engine does not reply")
    }

    /// The same engine for many trials on one thread, where those need none of their own.
    fn as_juggled(&self) -> Option<&dyn Juggled> {
        None
    }

    /// The engine's own list of voices, where it has one and was told how to ask for it.
    ///
    /// # Errors
    /// What went wrong, in words.
    fn voices_listed(&self, settings: &Settings) -> Result<Option<Vec<Voice>>, String> {
        let _ = settings;
        Ok(None)
    }
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
    /// Delivers the audio as from a microphone, to an engine that takes it so.
    pub live: Option<Live<'r>>,
}

/// A text to be spoken or replied to.
#[derive(Debug, Clone, Copy)]
pub struct SpeakRequest<'r> {
    /// Id of the clip.
    pub clip_id: &'r str,
    /// Language of the text, where it is labelled.
    pub lang: Option<&'r str>,
    /// The text, one reading of it.
    pub text: &'r str,
    /// The same text with markup (SSML), where the clip has some.
    pub ssml: Option<&'r str>,
    /// What a dialogue came to before, alternately what was said and what was replied; for a reply.
    pub earlier: &'r [String],
    /// Which form of the engine.
    pub form: Form<'r>,
    /// Set when the run is being stopped.
    pub stop: &'r StopFlag,
    /// Told of the bytes of each piece of sound as it comes, by services that stream.
    pub watch: Option<Watch<'r>>,
}

impl<'r> SpeakRequest<'r> {
    /// A text that nothing came before and nobody listens to as it comes.
    #[must_use]
    pub const fn new(
        clip_id: &'r str,
        lang: Option<&'r str>,
        text: &'r str,
        form: Form<'r>,
        stop: &'r StopFlag,
    ) -> Self {
        Self { clip_id, lang, text, ssml: None, earlier: &[], form, stop, watch: None }
    }
}

impl SpeakRequest<'_> {
    /// The text as SSML 1.1: its own markup, or the plain text within a `speak` element.
    #[must_use]
    pub fn as_ssml(&self) -> String {
        self.ssml.map_or_else(
            || {
                let escaped = |text: &str| {
                    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
                };
                format!(
                    "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"{}\">{}</speak>",
                    escaped(self.lang.unwrap_or("en")),
                    escaped(self.text)
                )
            },
            str::to_owned,
        )
    }
}

/// Somebody to be told of bytes as they come.
#[derive(Clone, Copy)]
pub struct Watch<'r>(pub &'r (dyn Fn(usize) + Sync));

impl std::fmt::Debug for Watch<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Watch")
    }
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
    /// What was measured.
    pub measured: Measured,
    /// What may be done after a failure.
    pub then: RetryAdvice,
}

/// What was measured of a call.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Measured {
    /// Wall time in milliseconds. For a command from the start of the program to its end; preparing its input and
    /// reading its output files lie outside. For a service from the start of the last attempt, connecting included, to
    /// the last byte. None when the engine could not be started.
    pub took_ms: Option<f64>,
    /// Milliseconds until the first text or sound, where the answer came in pieces.
    pub first_ms: Option<f64>,
    /// Processor seconds of the engine's processes, where they are ours to measure.
    pub cpu_s: Option<f64>,
    /// Peak resident memory of the engine's largest process in KiB.
    pub peak_memory_kib: Option<u64>,
    /// Container and codec of the sound that came, as its bytes say.
    pub came_as: Option<Box<str>>,
    /// Everything exchanged.
    pub traffic: Traffic,
}

/// What may be done after a failed call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RetryAdvice {
    /// The outcome stands.
    #[default]
    Leave,
    /// A repeat is safe and may help, at the earliest after this time where the engine named one.
    Repeat(Option<Duration>),
    /// The quota is used up: nothing more of this variant makes sense now.
    QuotaGone,
    /// This machine could not do its part, such as write a temporary file: the trial says nothing of the engine.
    Unable,
}

/// The answer where a temporary file could not be written.
pub(crate) fn no_temporary_file<T>(folder: &Path, error: &io::Error) -> Answer<T> {
    let what = format!("no temporary file can be written in {}: {}", folder.display(), net::io_reason(error));
    Answer::failed(Outcome::Stopped, what).then(RetryAdvice::Unable)
}

impl<T> Answer<T> {
    /// A call that ended without an answer.
    #[must_use]
    pub fn failed(outcome: Outcome, detail: impl Into<String>) -> Self {
        let detail = Some(cut(&detail.into()));
        Self { outcome, detail, value: None, measured: Measured::default(), then: RetryAdvice::Leave }
    }

    /// A call that ended with an answer.
    #[must_use]
    pub fn with(outcome: Outcome, value: T, measured: Measured) -> Self {
        Self { outcome, detail: None, value: Some(value), measured, then: RetryAdvice::Leave }
    }

    /// The same answer with what was measured of it.
    #[must_use]
    pub fn measured(self, measured: Measured) -> Self {
        Self { measured, ..self }
    }

    /// The same answer with what may be done next.
    #[must_use]
    pub fn then(self, then: RetryAdvice) -> Self {
        Self { then, ..self }
    }

    /// The same answer with another value.
    pub fn map<U>(self, change: impl FnOnce(T) -> U) -> Answer<U> {
        let Self { outcome, detail, value, measured, then } = self;
        Answer { outcome, detail, value: value.map(change), measured, then }
    }
}

/// An answer that was heard: no words are a different outcome from some.
fn heard_answer(heard: Heard, measured: Measured) -> Answer<Heard> {
    Answer::with(outcome_of_words(&heard.text), heard, measured)
}

/// Whether there are any words.
fn outcome_of_words(text: &str) -> Outcome {
    if text.trim().is_empty() { Outcome::Nothing } else { Outcome::Done }
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
