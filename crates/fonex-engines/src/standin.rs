//! The in-process stand-in as a transport: it answers by formula and then waits as long as it says it takes.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::audio::Audio;
use fonex_core::{Clip, Heard, Outcome};
use fonex_formats::{Place, Problem, value_strict};
use fonex_standin::{HearProfile, SpeakProfile, hear, speak};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{Answer, Engine, HearRequest, SpeakRequest, StopFlag, Task};

/// Behaviour by model for recognisers, by voice for synthesisers; `default` for all not named.
#[derive(Debug, Clone, Serialize)]
pub enum StandInConfig {
    /// A recogniser.
    Hear(BTreeMap<String, HearProfile>),
    /// A synthesiser.
    Speak(BTreeMap<String, SpeakProfile>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Behaviours<P> {
    #[serde(default = "BTreeMap::new")]
    behaviour: BTreeMap<String, P>,
}

impl StandInConfig {
    pub(crate) fn read(task: Task, own: Value, place: &Place, field: &str) -> Result<Self, Problem> {
        fn behaviours<P: DeserializeOwned>(
            own: Value,
            place: &Place,
            field: &str,
        ) -> Result<BTreeMap<String, P>, Problem> {
            let read: Behaviours<P> = value_strict(own, place.clone(), field, &crate::COMMON_KEYS)?;
            Ok(read.behaviour)
        }
        Ok(match task {
            Task::Hear => Self::Hear(behaviours(own, place, field)?),
            Task::Speak => Self::Speak(behaviours(own, place, field)?),
        })
    }
}

pub(crate) struct StandInEngine {
    name: String,
    config: StandInConfig,
    labels: Arc<HashMap<String, Clip>>,
    seed: u64,
}

impl StandInEngine {
    pub(crate) fn new(name: &str, config: StandInConfig, labels: Arc<HashMap<String, Clip>>, seed: u64) -> Self {
        Self { name: name.to_owned(), config, labels, seed }
    }
}

fn behaviour<P: Clone + Default>(profiles: &BTreeMap<String, P>, key: &str) -> P {
    profiles.get(key).or_else(|| profiles.get("default")).cloned().unwrap_or_default()
}

impl Engine for StandInEngine {
    fn given(&self) -> String {
        "samples as decoded".to_owned()
    }

    fn version(&self) -> Option<String> {
        let mut builds: Vec<&str> = match &self.config {
            StandInConfig::Hear(profiles) => profiles.values().map(|p| p.build.as_str()).collect(),
            StandInConfig::Speak(profiles) => profiles.values().map(|p| p.build.as_str()).collect(),
        };
        builds.retain(|build| !build.is_empty());
        builds.dedup();
        Some(if builds.is_empty() { "stand-in".to_owned() } else { format!("stand-in {}", builds.join(", ")) })
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let StandInConfig::Hear(profiles) = &self.config else {
            return Answer::failed(Outcome::Refused, "this stand-in speaks and does not hear");
        };
        let Some(clip) = self.labels.get(request.clip_id) else {
            return Answer::failed(Outcome::Refused, "a stand-in hears only clips whose label it is told");
        };
        let started = Instant::now();
        let profile = behaviour(profiles, request.form.model);
        let hearing = hear(&profile, self.seed, &self.name, request.form.model, clip, request.audio);
        let outcome = if hearing.heard.text.is_empty() { Outcome::Nothing } else { Outcome::Done };
        answer_after(started, hearing.takes_s, request.stop, outcome, hearing.heard)
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let StandInConfig::Speak(profiles) = &self.config else {
            return Answer::failed(Outcome::Refused, "this stand-in hears and does not speak");
        };
        let started = Instant::now();
        let spoken = speak(&behaviour(profiles, request.form.voice), self.seed, request.form.voice, request.text);
        answer_after(started, spoken.takes_s, request.stop, Outcome::Done, spoken.audio)
    }
}

/// Waits until `takes_s` after the start, in steps short enough to notice a stop.
fn answer_after<T>(started: Instant, takes_s: f64, stop: &StopFlag, outcome: Outcome, value: T) -> Answer<T> {
    const STEP: Duration = Duration::from_millis(20);
    let until = started + Duration::from_secs_f64(takes_s);
    while let Some(left) = until.checked_duration_since(Instant::now()) {
        if stop.is_set() {
            return Answer::failed(Outcome::Stopped, "stopped while waiting for the stand-in");
        }
        thread::sleep(left.min(STEP));
    }
    let took_ms = Some(started.elapsed().as_secs_f64() * 1e3);
    Answer { outcome, detail: None, value: Some(value), took_ms, cpu_s: None, peak_memory_kib: None }
}
