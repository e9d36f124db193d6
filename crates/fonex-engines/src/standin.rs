//! The in-process stand-in as a transport: it answers by formula and then waits as long as it says it takes.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::audio::Audio;
use fonex_core::speech::read_markup;
use fonex_core::{Clip, Heard, Outcome};
use fonex_formats::{Place, Problem, value_strict};
use fonex_standin::{Behaviours, hear, profile_of, reply, speak, speak_stretches};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::{Answer, Engine, HearRequest, Measured, SpeakRequest, StopFlag, Task};

/// Behaviour by model for recognisers and responders, by voice for synthesisers.
pub type StandInConfig = Behaviours;

#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
struct Behaviour<P> {
    #[serde(default = "BTreeMap::<String, P>::new")]
    behaviour: BTreeMap<String, P>,
}

/// The form of the table of a stand-in; what a behaviour holds depends on the task.
pub(crate) fn table_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
    use schemars::JsonSchema as _;
    Behaviour::<Value>::json_schema(generator)
}

/// Reads the table of a stand-in.
pub(crate) fn read(task: Task, own: Value, place: &Place, field: &str) -> Result<StandInConfig, Problem> {
    fn behaviours<P: DeserializeOwned>(
        own: Value,
        place: &Place,
        field: &str,
    ) -> Result<BTreeMap<String, P>, Problem> {
        let read: Behaviour<P> = value_strict(own, place.clone(), field, &crate::COMMON_KEYS)?;
        Ok(read.behaviour)
    }
    check_numbers(&own, field, place)?;
    Ok(match task {
        Task::Hear => Behaviours::Hear(behaviours(own, place, field)?),
        Task::Speak => Behaviours::Speak(behaviours(own, place, field)?),
        Task::Reply => Behaviours::Reply(behaviours(own, place, field)?),
    })
}

/// What no engine does: a million seconds, a million times as loud.
fn check_numbers(value: &Value, field: &str, place: &Place) -> Result<(), Problem> {
    const MOST: f64 = 1e6;
    match value {
        Value::Number(number) if number.as_f64().is_none_or(|number| number.abs() > MOST) => {
            let what = format!("{} is {number}", field.rsplit('.').next().unwrap_or(field));
            Err(Problem::new(what, place.clone().field(field)).expected("a number up to a million"))
        }
        Value::Object(fields) => {
            fields.iter().try_for_each(|(key, value)| check_numbers(value, &format!("{field}.{key}"), place))
        }
        Value::Array(items) => items.iter().try_for_each(|value| check_numbers(value, field, place)),
        _ => Ok(()),
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

impl Engine for StandInEngine {
    fn given(&self) -> String {
        "samples as decoded".to_owned()
    }

    fn version(&self) -> Option<String> {
        let mut builds: Vec<&str> = match &self.config {
            Behaviours::Hear(profiles) => profiles.values().map(|p| p.build.as_str()).collect(),
            Behaviours::Speak(profiles) => profiles.values().map(|p| p.build.as_str()).collect(),
            Behaviours::Reply(_) => Vec::new(),
        };
        builds.retain(|build| !build.is_empty());
        builds.dedup();
        Some(if builds.is_empty() { "stand-in".to_owned() } else { format!("stand-in {}", builds.join(", ")) })
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let Behaviours::Hear(profiles) = &self.config else {
            return Answer::failed(Outcome::Refused, "this stand-in speaks and does not hear");
        };
        let Some(clip) = self.labels.get(request.clip_id) else {
            return Answer::failed(Outcome::Refused, "a stand-in hears only clips whose label it is told");
        };
        let started = Instant::now();
        let profile = profile_of(profiles, request.form.model);
        let hearing = hear(&profile, self.seed, &self.name, request.form.model, clip, request.audio);
        let outcome = if hearing.heard.text.is_empty() { Outcome::Nothing } else { Outcome::Done };
        answer_after(started, hearing.takes_s, request.stop, outcome, hearing.heard)
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let Behaviours::Speak(profiles) = &self.config else {
            return Answer::failed(Outcome::Refused, "this stand-in hears and does not speak");
        };
        let started = Instant::now();
        let set = |key: &str| request.form.settings.get(key)?.parse::<f64>().ok();
        let profile = profile_of(profiles, request.form.voice).set(set);
        let (voice, lang) = (request.form.voice, request.lang);
        let spoken = match request.ssml.map(read_markup) {
            Some(Ok(markup)) => speak_stretches(&profile, self.seed, voice, &markup.stretches, lang),
            Some(Err(error)) => return Answer::failed(Outcome::Refused, error.to_string()),
            None => speak(&profile, self.seed, voice, request.text, lang),
        };
        answer_after(started, spoken.takes_s, request.stop, Outcome::Done, spoken.audio)
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let Behaviours::Reply(profiles) = &self.config else {
            return Answer::failed(Outcome::Refused, "this stand-in does not reply");
        };
        let started = Instant::now();
        let earlier = request.earlier.iter().map(|text| text.split_whitespace().count()).sum();
        let model = request.form.model;
        let replying = reply(&profile_of(profiles, model), self.seed, model, request.text, earlier);
        answer_after(started, replying.takes_s, request.stop, Outcome::Done, replying.text)
    }
}

/// Waits until `takes_s` after the start, in steps short enough to notice a stop.
fn answer_after<T>(started: Instant, takes_s: f64, stop: &StopFlag, outcome: Outcome, value: T) -> Answer<T> {
    const STEP: Duration = Duration::from_millis(20);
    let until = started + fonex_core::latency::span(takes_s);
    while let Some(left) = until.checked_duration_since(Instant::now()) {
        if stop.is_set() {
            return Answer::failed(Outcome::Stopped, "stopped while waiting for the stand-in");
        }
        thread::sleep(left.min(STEP));
    }
    let took_ms = Some(started.elapsed().as_secs_f64() * 1e3);
    Answer::with(outcome, value, Measured { took_ms, ..Measured::default() })
}
