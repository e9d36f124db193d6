//! Engines as the bench file describes them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fonex_core::Clip;
use fonex_formats::{Place, Problem, nearest, value_strict};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::command::{CommandConfig, CommandEngine};
use crate::standin::{StandInConfig, StandInEngine};
use crate::{Engine, Settings};

/// Keys every engine may have, whatever its transport.
pub const COMMON_KEYS: [&str; 5] = ["transport", "task", "models", "voices", "settings"];

const TRANSPORTS: [&str; 2] = ["command", "standin"];

/// What an engine does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Task {
    /// Turns audio into text.
    Hear,
    /// Turns text into audio.
    Speak,
}

impl Task {
    /// The word used in files and tables.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Hear => "hear",
            Self::Speak => "speak",
        }
    }
}

/// An engine of the bench file.
#[derive(Debug, Clone, Serialize)]
pub struct EngineConfig {
    /// Its name in the bench file.
    pub name: String,
    /// What it does.
    pub task: Task,
    /// Models to choose from; empty where there is no choice.
    pub models: Vec<String>,
    /// Voices to choose from; empty for recognisers.
    pub voices: Vec<String>,
    /// Settings every variant starts from.
    pub settings: Settings,
    /// How it is reached.
    pub transport: Transport,
}

/// How an engine is reached.
#[derive(Debug, Clone, Serialize)]
pub enum Transport {
    /// A program started for each trial.
    Command(CommandConfig),
    /// A simulation inside Fonex.
    StandIn(StandInConfig),
}

impl Transport {
    /// The word used in files and tables.
    #[must_use]
    pub const fn as_str(&self) -> &'static str {
        match self {
            Self::Command(_) => "command",
            Self::StandIn(_) => "standin",
        }
    }
}

#[derive(Deserialize)]
struct CommonConfig {
    task: Task,
    #[serde(default)]
    models: Vec<String>,
    #[serde(default)]
    voices: Vec<String>,
    #[serde(default)]
    settings: Map<String, Value>,
}

impl EngineConfig {
    /// Reads the table of one engine. `place` is where it stands; `field` its path, such as `engine.marl`.
    ///
    /// # Errors
    /// A [`Problem`] for an unknown transport or key, a missing key, or a command that names an unknown value.
    pub fn read(name: &str, table: Map<String, Value>, place: &Place, field: &str) -> Result<Self, Problem> {
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
        let common: CommonConfig = value_strict(Value::Object(common), place.clone(), field, &[])?;
        let (task, own) = (common.task, Value::Object(own));
        let transport = if kind == "command" {
            let config: CommandConfig = value_strict(own, place.clone(), field, &COMMON_KEYS)?;
            config.check(task, &common.settings.keys().cloned().collect::<Vec<_>>(), place, field)?;
            Transport::Command(config)
        } else {
            Transport::StandIn(StandInConfig::read(task, own, place, field)?)
        };
        if task == Task::Hear && !common.voices.is_empty() {
            let problem = Problem::new(format!("the recogniser \"{name}\" lists voices"), at("voices"));
            return Err(problem.remedy("remove them, or write task = \"speak\""));
        }
        let settings = common.settings.into_iter().map(|(key, value)| (key, plain(&value))).collect();
        Ok(Self { name: name.to_owned(), task, models: common.models, voices: common.voices, settings, transport })
    }
}

/// A setting as it is put into a command: strings without quotes.
fn plain(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// Makes an engine ready.
///
/// `folder` is the working folder of commands; `scratch` takes temporary files; `labels` and `seed` are for stand-ins,
/// which need to know what is said in order to spoil it.
#[must_use]
pub fn build_engine(
    config: &EngineConfig,
    folder: &Path,
    scratch: PathBuf,
    labels: &Arc<HashMap<String, Clip>>,
    seed: u64,
) -> Box<dyn Engine> {
    match &config.transport {
        Transport::Command(command) => Box::new(CommandEngine::new(command.clone(), folder.to_owned(), scratch)),
        Transport::StandIn(standin) => {
            Box::new(StandInEngine::new(&config.name, standin.clone(), Arc::clone(labels), seed))
        }
    }
}
