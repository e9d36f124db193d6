//! Engines as the bench file describes them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fonex_core::Clip;
use fonex_core::Task;
use fonex_core::cost::Prices;
use fonex_core::speech::AskedSound;
use fonex_formats::{Place, Problem, nearest, value_strict};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::audio_form::{AudioForm, Container};
use crate::command::{CommandConfig, CommandEngine};
use crate::guard::{Guarded, Limits, Retry, SharedPace};
use crate::http::{HttpConfig, HttpEngine};
use crate::recorded::{RecordedConfig, RecordedEngine};
use crate::secrets::{Redaction, Secrets};
use crate::socket::{SocketConfig, SocketEngine};
use crate::standin::{StandInConfig, StandInEngine};
use crate::voices::VoiceCatalogue;
use crate::worker::{WorkerConfig, WorkerEngine};
use crate::{Engine, Settings};

/// Keys every engine may have, whatever its transport.
pub const COMMON_KEYS: [&str; 12] = [
    "transport",
    "task",
    "models",
    "voices",
    "voice_file",
    "settings",
    "audio_rate_hz",
    "audio_container",
    "audio_bits",
    "limits",
    "retry",
    "prices",
];

const TRANSPORTS: [&str; 6] = ["command", "worker", "http", "socket", "recorded", "standin"];

/// An engine of the bench file.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct EngineConfig {
    /// Its name in the bench file.
    pub name: String,
    /// What it does.
    pub task: Task,
    /// Models to choose from; empty where there is no choice.
    pub models: Vec<String>,
    /// Voices to choose from; empty for recognisers.
    pub voices: VoiceCatalogue,
    /// Settings every variant starts from.
    pub settings: Settings,
    /// In which form it is given audio.
    pub audio: AudioForm,
    /// The form of the sound that a synthesiser is asked for, where the bench file says so.
    pub asked_sound: AskedSound,
    /// How long to wait, how much at once, how much it takes.
    pub limits: Limits,
    /// When a call is tried again.
    pub retry: Retry,
    /// What it charges.
    pub prices: Option<Prices>,
    /// How it is reached.
    pub transport: Transport,
}

/// How an engine is reached.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub enum Transport {
    /// A program started for each trial.
    Command(Box<CommandConfig>),
    /// A program that stays.
    Worker(WorkerConfig),
    /// A service asked over HTTP.
    Http(Box<HttpConfig>),
    /// A service spoken to over a WebSocket.
    Socket(Box<SocketConfig>),
    /// Results that already exist.
    Recorded(RecordedConfig),
    /// A simulation inside Fonex.
    StandIn(StandInConfig),
}

impl EngineConfig {
    /// Where it leads, for people: a program, an address, a file. Its own settings are filled in, secrets never.
    #[must_use]
    pub fn leads_to(&self) -> String {
        let fill =
            |text: String, (key, value): (&String, &String)| text.replace(&format!("{{settings.{key}}}"), value);
        self.settings.iter().fold(self.transport.leads_to(), fill)
    }
}

impl Transport {
    /// The word used in files and tables.
    #[must_use]
    pub const fn as_str(&self) -> &'static str {
        match self {
            Self::Command(_) => "command",
            Self::Worker(_) => "worker",
            Self::Http(_) => "http",
            Self::Socket(_) => "socket",
            Self::Recorded(_) => "recorded",
            Self::StandIn(_) => "standin",
        }
    }

    /// The environment variables whose values it uses.
    #[must_use]
    pub fn variables(&self) -> Vec<String> {
        let mut names = match self {
            Self::Command(config) => config.variables(),
            Self::Worker(config) => config.variables(),
            Self::Http(config) => config.variables(),
            Self::Socket(config) => config.variables(),
            Self::Recorded(_) | Self::StandIn(_) => Vec::new(),
        };
        names.sort_unstable();
        names.dedup();
        names
    }

    fn leads_to(&self) -> String {
        match self {
            Self::Command(config) => config.command.first().cloned().unwrap_or_default(),
            Self::Worker(config) => config.command.first().cloned().unwrap_or_default(),
            Self::Http(config) => config.request.url.clone(),
            Self::Socket(config) => config.url.clone(),
            Self::Recorded(config) => config.results.clone(),
            Self::StandIn(_) => "inside Fonex".to_owned(),
        }
    }
}

#[derive(Deserialize, schemars::JsonSchema)]
pub(crate) struct CommonConfig {
    /// What it does.
    task: Task,
    /// Its models.
    #[serde(default)]
    models: Vec<String>,
    /// Its voices: names, or tables with a name, language, gender and style.
    #[serde(default)]
    voices: Option<Value>,
    /// A file that lists its voices.
    #[serde(default)]
    voice_file: Option<String>,
    /// Values for its templates, by name.
    #[serde(default)]
    settings: Map<String, Value>,
    /// The rate at which it is given audio, or gives it.
    #[serde(default)]
    audio_rate_hz: Option<u32>,
    /// The form in which it is given audio, or gives it.
    #[serde(default)]
    audio_container: Option<Container>,
    /// Bits of a sample.
    #[serde(default = "sixteen")]
    audio_bits: u16,
    /// How long to wait, how much at once, how much it takes.
    #[serde(default)]
    limits: Limits,
    /// When a call is tried again.
    #[serde(default)]
    retry: Retry,
    /// What it charges.
    #[serde(default)]
    prices: Option<Prices>,
}

/// The rate engines are given audio in where nothing else is asked for.
const SPEECH_RATE_HZ: u32 = 16_000;

const fn sixteen() -> u16 {
    16
}

impl EngineConfig {
    /// Reads the table of one engine. `place` is where it stands; `field` its path, such as `engine.marl`; `folder` that of
    /// the bench file.
    ///
    /// # Errors
    /// A [`Problem`] for an unknown transport or key, a missing key, a value that cannot be, or a template that names an
    /// unknown value.
    pub fn read(
        name: &str,
        table: Map<String, Value>,
        place: &Place,
        field: &str,
        folder: &Path,
    ) -> Result<Self, Problem> {
        let (common, own): (Map<_, _>, Map<_, _>) =
            table.into_iter().partition(|(key, _)| COMMON_KEYS.contains(&key.as_str()));
        let at = |key: &str| place.clone().field(format!("{field}.{key}"));
        let kind = common.get("transport").and_then(Value::as_str).unwrap_or_default().to_owned();
        if !TRANSPORTS.contains(&kind.as_str()) {
            let what = format!("the engine \"{name}\" has the transport \"{kind}\", which does not exist");
            let problem = Problem::new(what, at("transport")).expected(TRANSPORTS.join(" or "));
            return Err(match nearest(&kind, TRANSPORTS) {
                Some(near) => problem.remedy(format!("write \"{near}\" if that is meant")),
                None => problem,
            });
        }
        let general: CommonConfig = value_strict(Value::Object(common), place.clone(), field, &[])?;
        let settings: Vec<String> = general.settings.keys().cloned().collect();
        let transport = read_transport(&kind, general.task, Value::Object(own), &settings, place, field, &at)?;
        let mut voices = VoiceCatalogue::default();
        if let Some(listed) = general.voices {
            voices = VoiceCatalogue::read(listed, at("voices"))?;
        }
        if let Some(file) = &general.voice_file {
            voices.0.extend(VoiceCatalogue::read_file(&folder.join(file))?.0);
        }
        if general.task != Task::Speak && !voices.0.is_empty() {
            let problem = Problem::new(format!("\"{name}\" is not a synthesiser but lists voices"), at("voices"));
            return Err(problem.remedy("remove them, or write task = \"speak\""));
        }
        let audio = AudioForm {
            rate_hz: general.audio_rate_hz.unwrap_or(SPEECH_RATE_HZ),
            container: general.audio_container.unwrap_or_default(),
            bits: general.audio_bits,
        };
        audio.check(&at)?;
        general.limits.check(&|key| at(&format!("limits.{key}")))?;
        general.retry.check(&|key| at(&format!("retry.{key}")))?;
        if let Some((key, what)) = general.prices.as_ref().and_then(Prices::fault) {
            return Err(Problem::new(what, at(&format!("prices.{key}"))));
        }
        Ok(Self {
            name: name.to_owned(),
            task: general.task,
            models: general.models,
            voices,
            settings: general.settings.into_iter().map(|(key, value)| (key, plain(&value))).collect(),
            audio,
            asked_sound: if general.task == Task::Speak {
                AskedSound {
                    rate_hz: general.audio_rate_hz,
                    container: general.audio_container.map(Container::as_str),
                }
            } else {
                AskedSound::default()
            },
            limits: general.limits,
            retry: general.retry,
            prices: general.prices,
            transport,
        })
    }
}

fn read_transport(
    kind: &str,
    task: Task,
    own: Value,
    settings: &[String],
    place: &Place,
    field: &str,
    at: &dyn Fn(&str) -> Place,
) -> Result<Transport, Problem> {
    fn strict<T: serde::de::DeserializeOwned>(own: Value, place: &Place, field: &str) -> Result<T, Problem> {
        value_strict(own, place.clone(), field, &COMMON_KEYS)
    }
    let only_hears = |kind: &str| match task {
        Task::Hear => Ok(()),
        _ => Err(Problem::new(format!("the transport {kind} only hears"), at("task")).expected("task = \"hear\"")),
    };
    Ok(match kind {
        "command" => {
            let config: CommandConfig = strict(own, place, field)?;
            config.check(task, settings, at)?;
            Transport::Command(Box::new(config))
        }
        "worker" => {
            let config: WorkerConfig = strict(own, place, field)?;
            config.check(settings, at)?;
            Transport::Worker(config)
        }
        "http" => {
            let config: HttpConfig = strict(own, place, field)?;
            config.check(task, settings, at)?;
            Transport::Http(Box::new(config))
        }
        "socket" => {
            let config: SocketConfig = strict(own, place, field)?;
            config.check(task, settings, at)?;
            Transport::Socket(Box::new(config))
        }
        "recorded" => {
            only_hears(kind)?;
            Transport::Recorded(strict(own, place, field)?)
        }
        _ => Transport::StandIn(crate::standin::read(task, own, place, field)?),
    })
}

/// A setting as it is put into a command: strings without quotes.
fn plain(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// What engines are built with, besides their own description.
#[derive(Clone)]
pub struct Surroundings {
    /// The bench file, for messages.
    pub bench: PathBuf,
    /// The bench file's folder, in which commands run.
    pub folder: PathBuf,
    /// Where temporary files go.
    pub scratch: PathBuf,
    /// The labels, for stand-ins, which need to know what is said in order to spoil it.
    pub labels: Arc<HashMap<String, Clip>>,
    /// Seed of stand-ins and of the jitter of waits.
    pub seed: u64,
    /// Values of environment variables.
    pub secrets: Secrets,
    /// With whom the limits of engines are shared.
    pub pace: Option<Arc<dyn SharedPace>>,
}

/// What engines that are programs are made of, beside their own tables.
pub(crate) struct ProgramParts<'p> {
    pub(crate) task: Task,
    pub(crate) audio: AudioForm,
    pub(crate) limits: Limits,
    /// The bench file's folder.
    pub(crate) folder: &'p Path,
    pub(crate) scratch: PathBuf,
    pub(crate) secrets: &'p Secrets,
    /// For what is told before an answer is there.
    pub(crate) redaction: Redaction,
}

impl<'p> ProgramParts<'p> {
    fn of(config: &EngineConfig, around: &'p Surroundings, redaction: &Redaction) -> Self {
        Self {
            task: config.task,
            audio: config.audio,
            limits: config.limits.clone(),
            folder: &around.folder,
            scratch: around.scratch.clone(),
            secrets: &around.secrets,
            redaction: redaction.clone(),
        }
    }
}

/// Makes an engine ready. Nothing is sent yet.
///
/// # Errors
/// A variable that is not set, certificates or recorded results that cannot be read.
pub fn build_engine(config: &EngineConfig, around: &Surroundings) -> Result<Box<dyn Engine>, Problem> {
    let at = |key: &str| Place::file(&around.bench).field(format!("engine.{}.{key}", config.name));
    let (folder, secrets) = (&around.folder, &around.secrets);
    let (audio, limits) = (config.audio, config.limits.clone());
    let variables = config.transport.variables().into_iter();
    let redaction = Redaction::new(variables.filter_map(|name| Some((name.clone(), secrets.value(&name)?))));
    let inner: Box<dyn Engine> = match &config.transport {
        Transport::Command(own) => {
            Box::new(CommandEngine::new(own.as_ref().clone(), ProgramParts::of(config, around, &redaction), &at)?)
        }
        Transport::Worker(own) => {
            Box::new(WorkerEngine::new(own.clone(), ProgramParts::of(config, around, &redaction), &at)?)
        }
        Transport::Http(own) => {
            Box::new(HttpEngine::new(config.task, own.as_ref().clone(), audio, limits, folder, secrets, &at)?)
        }
        Transport::Socket(own) => {
            Box::new(SocketEngine::new(config.task, own.as_ref().clone(), audio, limits, folder, secrets, &at)?)
        }
        Transport::Recorded(own) => Box::new(RecordedEngine::read(own, &config.models, folder)?),
        Transport::StandIn(standin) => {
            let labels = Arc::clone(&around.labels);
            Box::new(StandInEngine::new(&config.name, standin.clone(), labels, around.seed))
        }
    };
    let guarded = Guarded::new(inner, config.limits.clone(), config.retry.clone(), redaction, around.seed);
    Ok(Box::new(guarded.asking_for(config.asked_sound).shared_with(around.pace.clone(), &config.name)))
}
