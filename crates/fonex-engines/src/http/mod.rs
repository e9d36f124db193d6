//! The `http` transport: a service that is asked over HTTP, in its own way.

mod answer;
mod begun;
mod body;
mod config;
mod connections;
mod exchange;
mod job;
mod patience;
mod stream;
mod talk;

use std::collections::BTreeMap;
use std::path::Path;

use fonex_core::audio::Audio;
use fonex_core::{Heard, Outcome};
use fonex_formats::{Place, Problem};

pub(crate) use answer::{by_status, read_pieces, retry_after, status_detail};
pub use config::HttpConfig;
pub(crate) use config::{HttpVersion, RequestConfig};
pub(crate) use exchange::{MOST_ARRIVALS, longest_answer};

pub(crate) use crate::net::percent_encoded;

use crate::audio_form::AudioForm;
use crate::guard::Limits;
use crate::hands::now;
use crate::mapping::Wanted;
use crate::net::Net;
use crate::secrets::Secrets;
use crate::spoken::{sound, spoken};
use crate::values::{Values, look_up};
use crate::voices::Voice;
use crate::{Answer, Engine, HearRequest, Juggled, Settings, SpeakRequest, StopFlag, Task, Trial, outcome_of_words};
use answer::Reading;
use exchange::Wire;
use talk::{Ended, Given, Talk};

/// An engine that is a service.
pub(crate) struct HttpEngine {
    config: HttpConfig,
    /// What its results are read from.
    wanted: Wanted,
    audio: AudioForm,
    limits: Limits,
    variables: BTreeMap<String, String>,
    wire: Wire,
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
        let wanted = Wanted::of(config.result.addresses());
        Ok(Self { config, wanted, audio, limits, variables, wire })
    }

    fn values<'v>(&'v self, form: crate::Form<'v>, lang: Option<&'v str>, clip_id: &'v str) -> Values<'v> {
        let mut values = Values::new(form, lang, clip_id, &self.variables);
        values.set("audio_rate_hz", self.audio.rate_hz.to_string());
        values
    }

    /// Runs a trial to its end, or until the run is stopped.
    async fn run<T>(
        &self,
        values: Values<'_>,
        given: Given<'_>,
        task: Task,
        stop: &StopFlag,
        finish: impl FnOnce(Reading) -> Result<(Outcome, T), String>,
    ) -> Answer<T> {
        let mut talk = Talk::new(self, values, Some(stop));
        let ended = talk.ask(given, task).await;
        let took = talk.started.elapsed();
        // Also after a stop or a failure: nothing of ours stays on the server.
        if talk.job_open {
            Box::pin(talk.clear_up()).await;
        }
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

    async fn heard(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let sound = match self.audio.prepare(request.audio).await {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        let values = self.values(request.form, request.lang, request.clip_id);
        let finish = |reading: Reading| Ok((outcome_of_words(&reading.heard.text), reading.heard));
        self.run(values, Given::Sound(&sound), Task::Hear, request.stop, finish).await
    }

    async fn spoken(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let mut values = self.values(request.form, request.lang, request.clip_id);
        values.set("text", request.text);
        values.set("ssml", request.as_ssml());
        let raw_rate_hz = self.config.result.raw_rate_hz;
        let given = request.watch.map_or(Given::Nothing, Given::Watched);
        let finish = |reading: Reading| sound(reading.sound, raw_rate_hz).map(|sound| (Outcome::Done, sound));
        spoken(self.run(values, given, Task::Speak, request.stop, finish).await)
    }

    async fn replied(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let mut values = self.values(request.form, request.lang, request.clip_id);
        values.set("text", request.text);
        values.set("earlier", request.earlier.join("\n"));
        let finish = |reading: Reading| Ok((outcome_of_words(&reading.heard.text), reading.heard.text));
        self.run(values, Given::Nothing, Task::Reply, request.stop, finish).await
    }
}

impl Juggled for HttpEngine {
    fn hear_beside<'r>(&'r self, request: &'r HearRequest<'r>) -> Trial<'r, Heard> {
        Trial::new(self.heard(request))
    }

    fn speak_beside<'r>(&'r self, request: &'r SpeakRequest<'r>) -> Trial<'r, Audio> {
        Trial::new(self.spoken(request))
    }

    fn reply_beside<'r>(&'r self, request: &'r SpeakRequest<'r>) -> Trial<'r, String> {
        Trial::new(self.replied(request))
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
        now(self.heard(request))
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        now(self.spoken(request))
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        now(self.replied(request))
    }

    fn as_juggled(&self) -> Option<&dyn Juggled> {
        // Between two looks at a job its trial holds its thread.
        self.config.job.is_none().then_some(self)
    }

    fn voices_listed(&self, settings: &Settings) -> Result<Option<Vec<Voice>>, String> {
        let Some(list) = &self.config.voice_list else { return Ok(None) };
        let form = crate::Form { voice: "", model: "", settings };
        let mut talk = Talk::new(self, self.values(form, None, ""), None);
        let received = talk.outgoing("voices", &list.request, None, true).and_then(|outgoing| {
            let received = now(talk.send(&outgoing, &mut |_, _| true))?;
            talk.judge(&received).map(|()| received)
        });
        let received = received.map_err(|ended: Ended| ended.detail)?;
        let answer = crate::json::parse_bytes(&received.body, &Wanted::of([&list.items]))
            .map_err(|error| format!("its list of voices is not JSON: {error}"))?;
        list.read(&answer).map(Some)
    }
}
