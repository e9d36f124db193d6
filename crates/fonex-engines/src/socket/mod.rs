//! The `socket` transport: a service spoken to over a WebSocket (RFC 6455), message by message.

mod opening;
mod rules;
mod said;
mod sending;
mod session;

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Instant;

use fonex_core::audio::Audio;
use fonex_core::{Heard, Outcome};
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::audio_form::AudioForm;
use crate::guard::Limits;
use crate::hands::now;
use crate::http::longest_answer;
use crate::mapping::{ResultConfig, ResultForm};
use crate::net::{Net, NetFailure, Url, drive};
use crate::secrets::Secrets;
use crate::spoken::{sound, spoken};
use crate::values::{Known, Values, look_up, variables_in, variables_in_json};
use crate::{Answer, Engine, Form, HearRequest, Live, SpeakRequest, StopFlag, Task, outcome_of_words};
use rules::{Meaning, SocketRule};
use said::Said;
use session::Session;

/// How a service is spoken to and what its messages mean.
#[derive(Debug, Clone, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SocketConfig {
    /// Address, `ws://` or `wss://`.
    pub url: String,
    /// Query parts, added to the address percent-encoded.
    #[serde(default)]
    pub query: BTreeMap<String, String>,
    /// Headers of the opening request.
    #[serde(default)]
    pub headers: BTreeMap<String, String>,
    /// The message sent first.
    #[serde(default)]
    pub start: Option<Value>,
    /// A message for each frame of audio, with `{audio_base64}` in it; binary frames where it is left out.
    #[serde(default)]
    pub audio: Option<Value>,
    /// Milliseconds of audio in a frame.
    #[serde(default = "tenth_of_a_second")]
    pub frame_ms: f64,
    /// The message that carries the text to speak or to reply to.
    #[serde(default)]
    pub text: Option<Value>,
    /// The message that says that nothing more comes; for audio an empty binary frame where it is left out.
    #[serde(default)]
    pub end: Option<Value>,
    /// What is sent while nothing else is.
    #[serde(default)]
    pub keep_alive: Option<KeepAlive>,
    /// What incoming messages mean; the first that fits decides.
    pub rules: Vec<SocketRule>,
    /// Where the parts of a result stand in a message.
    #[serde(default)]
    pub result: ResultConfig,
    /// A file of certificate authorities in PEM form, trusted instead of the public ones.
    #[serde(default)]
    pub ca_file: Option<String>,
    /// A proxy, `http://HOST:PORT`.
    #[serde(default)]
    pub proxy: Option<String>,
}

const fn tenth_of_a_second() -> f64 {
    100.0
}

/// What keeps a quiet connection open.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct KeepAlive {
    /// Seconds between two messages.
    pub every_s: f64,
    /// The message; a ping where it is left out.
    #[serde(default)]
    pub send: Option<Value>,
}

impl SocketConfig {
    pub(crate) fn check(&self, task: Task, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        let everywhere = ["voice", "model", "lang", "clip_id", "audio_rate_hz"];
        let known = Known { values: &everywhere, settings, secrets: true };
        known.check(&self.url, "the address", || at("url"))?;
        if !self.url.contains('{') {
            Url::parse(&self.url).map_err(|why| Problem::new(why, at("url")).expected("ws://HOST/PATH"))?;
        }
        for (key, template) in &self.query {
            known.check(template, "the query", || at(&format!("query.{key}")))?;
        }
        for (key, template) in &self.headers {
            known.check(template, "the header", || at(&format!("headers.{key}")))?;
        }
        let messages = [("start", &self.start), ("end", &self.end)];
        for (key, message) in messages {
            if let Some(message) = message {
                known.check_json(message, "the message", &|| at(key))?;
            }
        }
        if let Some(KeepAlive { send: Some(message), .. }) = &self.keep_alive {
            known.check_json(message, "the message", &|| at("keep_alive.send"))?;
        }
        let further: &[&str] = match task {
            Task::Reply => &["earlier"],
            Task::Speak => &["ssml"],
            Task::Hear => &[],
        };
        let bodies = [("audio", &self.audio, "audio_base64", &[][..]), ("text", &self.text, "text", further)];
        for (key, message, value, further) in bodies {
            let Some(message) = message else { continue };
            let values: Vec<&str> = everywhere.into_iter().chain([value]).chain(further.iter().copied()).collect();
            Known { values: &values, settings, secrets: true }.check_json(message, "the message", &|| at(key))?;
            let carries = |value: &str| message.to_string().contains(&format!("{{{value}}}"));
            if !(carries(value) || further.contains(&"ssml") && carries("ssml")) {
                let what = format!("the message never carries {{{value}}}");
                return Err(Problem::new(what, at(key)).expected(format!("{{{value}}} in one of its strings")));
            }
        }
        if task != Task::Hear && self.text.is_none() {
            let problem = Problem::new("nothing carries the text", at("text"));
            return Err(problem.expected("text = { ... = \"{text}\" }"));
        }
        if !(1.0..=60_000.0).contains(&self.frame_ms) {
            return Err(Problem::new(format!("frame_ms is {}", self.frame_ms), at("frame_ms")).expected("1 to 60000"));
        }
        if let Some(keep) = self.keep_alive.as_ref().filter(|keep| !(0.01..=3_600.0).contains(&keep.every_s)) {
            return Err(Problem::new(format!("every_s is {}", keep.every_s), at("keep_alive.every_s"))
                .expected("0.01 to 3600"));
        }
        rules::check(&self.rules, task, at)?;
        if task == Task::Speak {
            return Ok(());
        }
        self.result.check(task, ResultForm::Json, &[ResultForm::Json], at)
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        let mut names: Vec<String> = variables_in(&self.url).map(str::to_owned).collect();
        names.extend(
            self.query.values().chain(self.headers.values()).flat_map(|t| variables_in(t)).map(str::to_owned),
        );
        let keep = self.keep_alive.as_ref().and_then(|keep| keep.send.as_ref());
        for message in [&self.start, &self.audio, &self.text, &self.end].into_iter().flatten().chain(keep) {
            variables_in_json(message, &mut names);
        }
        names
    }

    fn has(&self, meaning: Meaning) -> bool {
        self.rules.iter().any(|rule| rule.means == meaning)
    }
}

/// An engine behind a WebSocket. Each trial has a connection of its own.
pub(crate) struct SocketEngine {
    config: SocketConfig,
    audio: AudioForm,
    limits: Limits,
    variables: BTreeMap<String, String>,
    net: Net,
    /// Bytes an answer may have.
    longest: u64,
}

impl SocketEngine {
    pub(crate) fn new(
        task: Task,
        config: SocketConfig,
        audio: AudioForm,
        limits: Limits,
        folder: &Path,
        secrets: &Secrets,
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Self, Problem> {
        let variables = look_up(config.variables(), secrets, &at("url"))?;
        let ca_file = config.ca_file.as_ref().map(|file| folder.join(file));
        let net = Net::new(ca_file.as_deref(), config.proxy.as_deref(), &["http/1.1"], at)?.tunnelling();
        Ok(Self { config, audio, limits, variables, net, longest: longest_answer(task) as u64 })
    }

    fn run<T>(
        &self,
        form: Form<'_>,
        lang: Option<&str>,
        clip_id: &str,
        given: Given<'_>,
        stop: &StopFlag,
        finish: impl FnOnce(Said) -> Result<(Outcome, T), String>,
    ) -> Answer<T> {
        let mut values = Values::new(form, lang, clip_id, &self.variables);
        values.set("audio_rate_hz", self.audio.rate_hz.to_string());
        let mut session = Session::new(self, values);
        let ended = now(drive(async {
            let ended = tokio::select! {
                biased;
                ended = session.run(given, stop) => ended,
                () = stop.asked_for() => Err(NetFailure::stopped()),
            };
            (ended, Instant::now())
        }));
        let (ended, at) = ended.unwrap_or_else(|failure| (Err(failure), Instant::now()));
        let (said, measured) = session.finish(&ended, at);
        match ended {
            Err(failure) => Answer::failed(failure.outcome, failure.detail).measured(measured).then(failure.then),
            Ok(()) => match finish(said) {
                Ok((outcome, value)) => Answer::with(outcome, value, measured),
                Err(why) => Answer::failed(Outcome::Broken, why).measured(measured),
            },
        }
    }
}

/// What goes to the service.
#[derive(Clone, Copy)]
enum Given<'g> {
    /// Audio, at a pace.
    Live(&'g [u8], Live<'g>, f64),
    /// Audio, and how many bytes make a frame.
    Sound(&'g [u8], usize),
    Text(&'g SpeakRequest<'g>),
}

impl Engine for SocketEngine {
    fn version(&self) -> Option<String> {
        None
    }

    fn given(&self) -> String {
        self.audio.described()
    }

    fn takes_live(&self) -> bool {
        true
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let sound = match now(self.audio.prepare(request.audio)) {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        let frame = (f64::from(self.audio.rate_hz) * self.config.frame_ms / 1e3).round().max(1.0) as usize;
        let bytes = frame * usize::from(self.audio.bits / 8);
        let bytes_a_second = f64::from(self.audio.rate_hz) * f64::from(self.audio.bits / 8);
        let given = match request.live {
            Some(live) => Given::Live(&sound, live, bytes_a_second),
            None => Given::Sound(&sound, bytes),
        };
        self.run(request.form, request.lang, request.clip_id, given, request.stop, |said| {
            Ok((outcome_of_words(&said.heard.text), said.heard))
        })
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let given = Given::Text(request);
        spoken(self.run(request.form, request.lang, request.clip_id, given, request.stop, |said| {
            sound(said.sound, self.config.result.raw_rate_hz).map(|sound| (Outcome::Done, sound))
        }))
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let given = Given::Text(request);
        self.run(request.form, request.lang, request.clip_id, given, request.stop, |said| {
            Ok((outcome_of_words(&said.heard.text), said.heard.text))
        })
    }
}
