//! The `http` transport: a service that is asked over HTTP, in its own way.

mod answer;
mod body;
mod connections;
mod exchange;
mod job;
mod stream;

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Instant;

use fonex_core::audio::Audio;
use fonex_core::latency::Arrivals;
use fonex_core::{Heard, Outcome};
use fonex_formats::{Place, Problem};
use hyper::Method;
use hyper::header::{HeaderName, HeaderValue};
use serde::{Deserialize, Serialize};
use serde_json::Value;

pub(crate) use exchange::{MOST_ARRIVALS, longest_answer};

pub(crate) use answer::{by_status, retry_after, status_detail};

pub(crate) use crate::net::percent_encoded;

use crate::audio_form::AudioForm;
use crate::guard::Limits;
use crate::mapping::{ResultConfig, ResultForm};
use crate::net::{Net, NetFailure, Url, block_on, stopped};
use crate::rules::{self, OutcomeRule};
use crate::secrets::Secrets;
use crate::spoken::sound;
use crate::values::{Known, Values, look_up, variables_in, variables_in_json};
use crate::voices::{Voice, VoiceListConfig};
use crate::{
    Answer, Engine, HearRequest, Measured, RetryAdvice, Settings, SpeakRequest, StopFlag, Task, Watch,
    outcome_of_words,
};
use answer::Reading;
use exchange::{Outgoing, Received, Wire};
use job::JobConfig;

/// How a service is asked and how its answer is read.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HttpConfig {
    /// The request of a trial.
    pub request: RequestConfig,
    /// Where and in which form the result comes.
    #[serde(default)]
    pub result: ResultConfig,
    /// How to go on where the service only takes a job.
    #[serde(default)]
    pub job: Option<JobConfig>,
    /// What statuses and error messages mean.
    #[serde(default)]
    pub outcomes: Vec<OutcomeRule>,
    /// A file of certificate authorities in PEM form, trusted instead of the public ones.
    #[serde(default)]
    pub ca_file: Option<String>,
    /// A proxy, `http://HOST:PORT`.
    #[serde(default)]
    pub proxy: Option<String>,
    /// Which version of HTTP is spoken.
    #[serde(default)]
    pub http_version: HttpVersion,
    /// How to ask for the list of voices.
    #[serde(default)]
    pub voice_list: Option<VoiceListConfig>,
}

/// Which version of HTTP is spoken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum HttpVersion {
    /// HTTP/2 where the service agrees to it in the TLS handshake, else HTTP/1.1.
    #[default]
    #[serde(rename = "auto")]
    Auto,
    /// HTTP/1.1.
    #[serde(rename = "1")]
    One,
    /// HTTP/2, without TLS by prior knowledge.
    #[serde(rename = "2")]
    Two,
}

/// One request; values of the trial are filled into every part.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RequestConfig {
    /// Method; by default POST with a body and GET without.
    #[serde(default)]
    pub method: Option<String>,
    /// Address.
    pub url: String,
    /// Query parts, added to the address percent-encoded.
    #[serde(default)]
    pub query: BTreeMap<String, String>,
    /// Headers.
    #[serde(default)]
    pub headers: BTreeMap<String, String>,
    /// A raw body: `{audio}` for the sound, else text.
    #[serde(default)]
    pub body: Option<String>,
    /// A JSON body.
    #[serde(default)]
    pub json: Option<Value>,
    /// A multipart form; a part that is `{audio}` carries the sound as a file.
    #[serde(default)]
    pub form: Option<BTreeMap<String, String>>,
}

const COMMON: [&str; 5] = ["voice", "model", "lang", "clip_id", "audio_rate_hz"];
const JOB: &str = "job";

impl RequestConfig {
    /// Checks the templates; `field` is the request's path below the engine.
    pub(crate) fn check(
        &self,
        task: Option<Task>,
        job: bool,
        settings: &[String],
        field: &str,
        at: &dyn Fn(&str) -> Place,
    ) -> Result<(), Problem> {
        let here = |key: &str| at(&format!("{field}.{key}"));
        let bodies = [self.body.is_some(), self.json.is_some(), self.form.is_some()];
        if bodies.iter().filter(|given| **given).count() > 1 {
            return Err(Problem::new("a request has one body", here("body")).expected("one of body, json and form"));
        }
        let mut values = COMMON.to_vec();
        if job {
            values.push(JOB);
        }
        match task {
            Some(Task::Hear) => values.extend(["audio", "audio_base64"]),
            Some(Task::Speak) => values.push("text"),
            Some(Task::Reply) => values.extend(["text", "earlier"]),
            None => {}
        }
        let spoken = |without: &[&str]| values.iter().copied().filter(|v| !without.contains(v)).collect::<Vec<_>>();
        let (in_head, in_json) = (spoken(&["audio", "audio_base64"]), spoken(&["audio"]));
        let in_body = spoken(&["audio_base64"]);
        let known = |values| Known { values, settings, secrets: true };
        known(&in_head).check(&self.url, "the address", || here("url"))?;
        if !self.url.contains('{') {
            Url::parse(&self.url).map_err(|why| Problem::new(why, here("url")).expected("http://HOST/PATH"))?;
        }
        for (key, template) in &self.query {
            known(&in_head).check(template, "the query", || here(&format!("query.{key}")))?;
        }
        for (key, template) in &self.headers {
            let place = || here(&format!("headers.{key}"));
            HeaderName::try_from(key.as_str())
                .map_err(|_| Problem::new(format!("\"{key}\" cannot be the name of a header"), place()))?;
            known(&in_head).check(template, "the header", place)?;
        }
        if let Some(template) = &self.body {
            known(&in_body).check(template, "the body", || here("body"))?;
            if template.contains("{audio}") && template != "{audio}" {
                return Err(
                    Problem::new("nothing can stand beside the sound", here("body")).expected("body = \"{audio}\"")
                );
            }
        }
        if let Some(template) = &self.json {
            known(&in_json).check_json(template, "the JSON", &|| here("json"))?;
        }
        for (key, template) in self.form.iter().flatten() {
            known(&in_body).check(template, "the form", || here(&format!("form.{key}")))?;
        }
        if let Some(method) = &self.method {
            Method::from_bytes(method.as_bytes())
                .ok()
                .filter(|method| method.as_str().chars().all(|c| c.is_ascii_uppercase()))
                .ok_or_else(|| {
                    Problem::new(format!("\"{method}\" is no method"), here("method"))
                        .expected("GET, POST, PUT, DELETE or another in capitals")
                })?;
        }
        Ok(())
    }

    fn mentions(&self, name: &str) -> bool {
        serde_json::to_string(self).is_ok_and(|all| all.contains(&format!("{{{name}}}")))
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        let mut names: Vec<String> = variables_in(&self.url).map(str::to_owned).collect();
        let templates =
            self.query.values().chain(self.headers.values()).chain(self.form.iter().flatten().map(|p| p.1));
        names.extend(templates.chain(&self.body).flat_map(|template| variables_in(template)).map(str::to_owned));
        if let Some(json) = &self.json {
            variables_in_json(json, &mut names);
        }
        names
    }
}

impl HttpConfig {
    pub(crate) fn check(&self, task: Task, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        self.request.check(Some(task), false, settings, "request", at)?;
        let given = match task {
            Task::Hear => self.request.mentions("audio") || self.request.mentions("audio_base64"),
            Task::Speak | Task::Reply => self.request.mentions("text"),
        };
        if !given {
            let what = format!("the request never carries what the service should {} to", task.as_str());
            let expected = match task {
                Task::Hear => "body = \"{audio}\", {audio} in a form, or {audio_base64} in JSON",
                Task::Speak | Task::Reply => "{text} in the body, the JSON, a form or the query",
            };
            return Err(Problem::new(
                what.replace(" to", if task == Task::Reply { " to" } else { "" }),
                at("request"),
            )
            .expected(expected));
        }
        if let Some(job) = &self.job {
            job.check(settings, at)?;
        }
        for (i, rule) in self.outcomes.iter().enumerate() {
            if let Some(what) = rules::fault(rule) {
                return Err(Problem::new(what, at(&format!("outcomes[{i}]"))));
            }
        }
        if let Some(list) = &self.voice_list {
            list.check(settings, at)?;
        }
        let forms = [ResultForm::Json, ResultForm::Text, ResultForm::Audio, ResultForm::Events, ResultForm::Lines];
        self.result.check(task, default_form(task), &forms, at)
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        let mut names = self.request.variables();
        names.extend(self.job.iter().flat_map(JobConfig::variables));
        names.extend(self.voice_list.iter().flat_map(|list| list.request.variables()));
        names
    }

    fn form(&self, task: Task) -> ResultForm {
        self.result.form.unwrap_or_else(|| default_form(task))
    }
}

const fn default_form(task: Task) -> ResultForm {
    match task {
        Task::Speak => ResultForm::Audio,
        Task::Hear | Task::Reply => ResultForm::Json,
    }
}

/// An engine that is a service.
pub(crate) struct HttpEngine {
    config: HttpConfig,
    audio: AudioForm,
    limits: Limits,
    variables: BTreeMap<String, String>,
    wire: Wire,
}

/// What a trial brings along.
#[derive(Clone, Copy)]
enum Given<'g> {
    Nothing,
    /// Sound to be sent.
    Sound(&'g [u8]),
    /// Somebody who is told of the sound that comes.
    Watched(Watch<'g>),
}

/// One trial under way: what was exchanged so far.
struct Talk<'t> {
    engine: &'t HttpEngine,
    values: Values<'t>,
    until: Instant,
    started: Instant,
    measured: Measured,
    /// A job stands on the server.
    job_open: bool,
}

/// Why a trial ended without a result.
struct Ended {
    outcome: Outcome,
    detail: String,
    then: RetryAdvice,
}

impl From<NetFailure> for Ended {
    fn from(failure: NetFailure) -> Self {
        let NetFailure { outcome, detail, then } = failure;
        Self { outcome, detail, then }
    }
}

impl Ended {
    fn broken(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Broken, detail: detail.into(), then: RetryAdvice::Leave }
    }
}

impl HttpEngine {
    pub(crate) fn new(
        task: Task,
        config: HttpConfig,
        audio: AudioForm,
        limits: Limits,
        folder: &Path,
        secrets: &Secrets,
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Self, Problem> {
        let variables = look_up(config.variables(), secrets, &at("request"))?;
        let ca_file = config.ca_file.as_ref().map(|file| folder.join(file));
        let protocols: &[&str] = match config.http_version {
            HttpVersion::Auto => &["h2", "http/1.1"],
            HttpVersion::One => &["http/1.1"],
            HttpVersion::Two => &["h2"],
        };
        let net = Net::new(ca_file.as_deref(), config.proxy.as_deref(), protocols, at)?;
        let wire = Wire::new(net, config.http_version, task);
        Ok(Self { config, audio, limits, variables, wire })
    }

    fn values<'v>(&'v self, form: crate::Form<'v>, lang: Option<&str>, clip_id: &str) -> Values<'v> {
        let mut values = Values::new(form, lang, clip_id, &self.variables);
        values.set("audio_rate_hz", self.audio.rate_hz.to_string());
        values
    }

    /// Runs a trial to its end, or until the run is stopped.
    fn run<T>(
        &self,
        values: Values<'_>,
        given: Given<'_>,
        task: Task,
        stop: &StopFlag,
        finish: impl FnOnce(Reading) -> Result<(Outcome, T), String>,
    ) -> Answer<T> {
        let started = Instant::now();
        let until = started + self.limits.total();
        let mut talk = Talk { engine: self, values, until, started, measured: Measured::default(), job_open: false };
        let (ended, took) = block_on(async {
            let ended = tokio::select! {
                biased;
                ended = talk.ask(given, task) => ended,
                () = stopped(stop) => Err(NetFailure::stopped().into()),
            };
            // Also after a stop or a failure: nothing of ours stays on the server.
            let took = started.elapsed();
            talk.clear_up().await;
            (ended, took)
        });
        let mut measured = talk.measured;
        measured.took_ms = (!measured.traffic.requests.is_empty()).then_some(took.as_secs_f64() * 1e3);
        match ended {
            Ok(reading) => {
                measured.took_ms = Some(reading.took_ms);
                measured.first_ms = reading.first_ms;
                measured.traffic.usage.clone_from(&reading.usage);
                match finish(reading) {
                    Ok((outcome, value)) => Answer::with(outcome, value, measured),
                    Err(why) => Answer::failed(Outcome::Broken, why).measured(measured),
                }
            }
            Err(Ended { outcome, detail, then }) => Answer::failed(outcome, detail).measured(measured).then(then),
        }
    }
}

impl Talk<'_> {
    async fn ask(&mut self, given: Given<'_>, task: Task) -> Result<Reading, Ended> {
        let sound = if let Given::Sound(sound) = given { Some(sound) } else { None };
        let form = self.engine.config.form(task);
        let result = &self.engine.config.result;
        if self.engine.config.job.is_some() {
            return self.job(sound, task).await;
        }
        let mut steps = form.streams().then(|| stream::StepReader::new(form, result));
        let outgoing =
            self.outgoing("ask", &self.engine.config.request, sound, !form.streams() && task != Task::Speak)?;
        let mut taken = |bytes: &[u8], at| {
            if let Given::Watched(Watch(watch)) = given {
                watch(bytes.len());
            }
            steps.as_mut().is_none_or(|steps| {
                steps.feed(bytes, at);
                !steps.ended && steps.fault.is_none()
            })
        };
        let received = self.send(outgoing, &mut taken).await?;
        let took = received.ended.saturating_duration_since(self.started);
        let steps = steps.map(|mut steps| {
            steps.finish(took);
            steps
        });
        self.judge(&received)?;
        let reading = answer::read(&received, steps, form, result, task, took).map_err(Ended::broken)?;
        if let Some(link) = reading.link.clone() {
            return self.fetch_sound(&link, reading).await;
        }
        self.judge_result(&received, &reading)?;
        Ok(reading)
    }

    async fn fetch_sound(&mut self, link: &str, reading: Reading) -> Result<Reading, Ended> {
        let base = Url::parse(&self.values.fill(&self.engine.config.request.url)).map_err(Ended::broken)?;
        let url = base.join(link).map_err(|why| Ended::broken(format!("the link to its audio: {why}")))?;
        // Keys are for the service itself; a link to another host gets none.
        let headers = if url.target == base.target { self.headers(&self.engine.config.request)? } else { Vec::new() };
        let (method, body) = (Method::GET, body::Body::default());
        let outgoing = Outgoing { purpose: "fetch", method, url, headers, body, compressed: false };
        let received = self.send(outgoing, &mut |_, _| true).await?;
        self.judge(&received)?;
        let took_ms = received.ended.saturating_duration_since(self.started).as_secs_f64() * 1e3;
        Ok(Reading { sound: received.body, took_ms, ..reading })
    }

    /// Sends one request and notes it. An error status is no failure here.
    async fn send(
        &mut self,
        outgoing: Outgoing,
        taken: &mut (dyn FnMut(&[u8], std::time::Duration) -> bool + Send),
    ) -> Result<Received, Ended> {
        let engine = self.engine;
        match engine.wire.exchange(outgoing, &engine.limits, self.until, taken).await {
            Ok(received) => {
                self.measured.traffic.requests.push(received.request.clone());
                self.measured.traffic.arrivals = Arrivals::from_moments(&received.arrivals);
                Ok(received)
            }
            Err(failed) => {
                let (failure, request) = *failed;
                self.measured.traffic.requests.push(request);
                Err(failure.into())
            }
        }
    }

    fn outgoing(
        &self,
        purpose: &'static str,
        config: &RequestConfig,
        sound: Option<&[u8]>,
        compressed: bool,
    ) -> Result<Outgoing, Ended> {
        let url = Url::parse(&self.values.fill(&config.url)).map_err(Ended::broken)?;
        let url =
            config.query.iter().fold(url, |url, (key, template)| url.with_query(key, &self.values.fill(template)));
        let body = body::build(config, &self.values, sound, self.engine.audio);
        let default = if body.bytes.is_empty() && body.media_type.is_none() { Method::GET } else { Method::POST };
        let method = config.method.as_ref().and_then(|m| Method::from_bytes(m.as_bytes()).ok()).unwrap_or(default);
        Ok(Outgoing { purpose, method, url, headers: self.headers(config)?, body, compressed })
    }

    fn headers(&self, config: &RequestConfig) -> Result<Vec<(HeaderName, HeaderValue)>, Ended> {
        config
            .headers
            .iter()
            .map(|(name, template)| {
                let value = HeaderValue::from_str(&self.values.fill(template));
                let name = HeaderName::try_from(name.as_str());
                name.ok().zip(value.ok()).ok_or_else(|| Ended {
                    outcome: Outcome::Refused,
                    detail: format!("the header {template:?} cannot be sent with what is filled in"),
                    then: RetryAdvice::Leave,
                })
            })
            .collect()
    }

    /// What an answer's status and the rules say; an error for anything but an answer to read. The request already
    /// noted gets the outcome.
    fn judge(&mut self, received: &Received) -> Result<(), Ended> {
        let fine = (200..300).contains(&received.status);
        if fine && self.engine.config.outcomes.is_empty() {
            return Ok(());
        }
        let text = String::from_utf8_lossy(&received.body[..received.body.len().min(64 << 10)]);
        let json = || serde_json::from_slice::<Value>(&received.body).ok();
        let json =
            if self.engine.config.outcomes.is_empty() || received.body.len() > (8 << 20) { None } else { json() };
        let said = rules::Said { status: Some(received.status), json: json.as_ref(), text: &text };
        let rule = rules::find(&self.engine.config.outcomes, &said);
        let after = retry_after(received.header("retry-after"));
        let (outcome, then) = match rule {
            Some(rule) if rule.outcome == Outcome::Done => return Ok(()),
            Some(rule) => (rule.outcome, rule.then(after)),
            None if fine => return Ok(()),
            None => by_status(received.status, &text, after),
        };
        let detail = status_detail(received.status, &text, &self.engine.variables);
        if let Some(request) = self.measured.traffic.requests.last_mut() {
            request.outcome = outcome;
            request.detail = Some(crate::cut(&detail));
        }
        Err(Ended { outcome, detail, then })
    }

    /// Rules may also speak of what a stream said.
    fn judge_result(&mut self, received: &Received, reading: &Reading) -> Result<(), Ended> {
        let Some(json) = reading.last_step.as_ref().filter(|_| !self.engine.config.outcomes.is_empty()) else {
            return Ok(());
        };
        let text = json.to_string();
        let said = rules::Said { status: Some(received.status), json: Some(json), text: &text };
        match rules::find(&self.engine.config.outcomes, &said) {
            Some(rule) if rule.outcome != Outcome::Done => {
                let then = rule.then(retry_after(received.header("retry-after")));
                Err(Ended { outcome: rule.outcome, detail: format!("the stream said: {}", crate::cut(&text)), then })
            }
            _ => Ok(()),
        }
    }
}

impl Engine for HttpEngine {
    fn version(&self) -> Option<String> {
        None
    }

    fn given(&self) -> String {
        self.audio.described()
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let sound = match self.audio.prepare(request.audio) {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        let values = self.values(request.form, request.lang, request.clip_id);
        self.run(values, Given::Sound(&sound), Task::Hear, request.stop, |reading| {
            Ok((outcome_of_words(&reading.heard.text), reading.heard))
        })
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let mut values = self.values(request.form, request.lang, request.clip_id);
        values.set("text", request.text.to_owned());
        let raw_rate_hz = self.config.result.raw_rate_hz;
        self.run(values, request.watch.map_or(Given::Nothing, Given::Watched), Task::Speak, request.stop, |reading| {
            sound(reading.sound, raw_rate_hz).map(|audio| (Outcome::Done, audio))
        })
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let mut values = self.values(request.form, request.lang, request.clip_id);
        values.set("text", request.text.to_owned());
        values.set("earlier", request.earlier.join("\n"));
        self.run(values, Given::Nothing, Task::Reply, request.stop, |reading| {
            Ok((outcome_of_words(&reading.heard.text), reading.heard.text))
        })
    }

    fn voices_listed(&self, settings: &Settings) -> Result<Option<Vec<Voice>>, String> {
        let Some(list) = &self.config.voice_list else { return Ok(None) };
        let form = crate::Form { voice: "", model: "", settings };
        let (values, started) = (self.values(form, None, ""), Instant::now());
        let until = started + self.limits.total();
        let mut talk = Talk { engine: self, values, until, started, measured: Measured::default(), job_open: false };
        let received = block_on(async {
            let outgoing = talk.outgoing("voices", &list.request, None, true)?;
            let received = talk.send(outgoing, &mut |_, _| true).await?;
            talk.judge(&received).map(|()| received)
        });
        let received = received.map_err(|ended: Ended| ended.detail)?;
        let answer = serde_json::from_slice(&received.body)
            .map_err(|error| format!("its list of voices is not JSON: {error}"))?;
        list.read(&answer).map(Some)
    }
}
