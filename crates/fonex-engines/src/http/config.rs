//! How a service is described in the bench file, and what of it can be checked before anything is sent.

use std::collections::BTreeMap;

use fonex_formats::{Place, Problem};
use hyper::Method;
use hyper::header::HeaderName;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::job::JobConfig;
use crate::Task;
use crate::mapping::{ResultConfig, ResultForm};
use crate::net::Url;
use crate::rules::{self, OutcomeRule};
use crate::values::{Known, variables_in, variables_in_json};
use crate::voices::VoiceListConfig;

/// How a service is asked and how its answer is read.
#[derive(Debug, Clone, Serialize, Deserialize, schemars::JsonSchema)]
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
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
    /// The service does the same request twice without harm: it may be repeated after an answer that did not come.
    #[serde(default)]
    pub safe_to_repeat: bool,
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
            Some(Task::Speak) => values.extend(["text", "ssml"]),
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
                return Err(Problem::new("no other field is possible beside the audio", here("body"))
                    .expected("body = \"{audio}\""));
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
                    Problem::new(format!("\"{method}\" is not an HTTP method"), here("method"))
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
            Task::Speak => self.request.mentions("text") || self.request.mentions("ssml"),
            Task::Reply => self.request.mentions("text"),
        };
        if !given {
            let what = format!("the request never contains the input the service should {}", task.as_str());
            let expected = match task {
                Task::Hear => "body = \"{audio}\", {audio} in a form, or {audio_base64} in JSON",
                Task::Speak | Task::Reply => {
                    "{text}, or for a voice {ssml}, in the body, the JSON, a form or the query"
                }
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

    pub(super) fn form(&self, task: Task) -> ResultForm {
        self.result.form.unwrap_or_else(|| default_form(task))
    }
}

pub(super) const fn default_form(task: Task) -> ResultForm {
    match task {
        Task::Speak => ResultForm::Audio,
        Task::Hear | Task::Reply => ResultForm::Json,
    }
}
