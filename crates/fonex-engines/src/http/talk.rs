//! One trial over HTTP: its requests, how their answers are judged and read.

use std::pin::pin;
use std::time::{Duration, Instant};

use fonex_core::Outcome;
use fonex_core::latency::{Arrivals, Request};
use hyper::Method;
use hyper::header::{HeaderName, HeaderValue, RETRY_AFTER};

use super::answer::{self, Reading, by_status, retry_after, status_detail};
use super::config::RequestConfig;
use super::exchange::{Outgoing, Received};
use super::{HttpEngine, body, stream};
use crate::json;
use crate::mapping::Wanted;
use crate::net::{NetFailure, Url, drive};
use crate::rules;
use crate::values::Values;
use crate::{Measured, RetryAdvice, StopFlag, Task, Watch};

/// What a trial brings along.
#[derive(Clone, Copy)]
pub(super) enum Given<'g> {
    Nothing,
    /// Sound to be sent.
    Sound(&'g [u8]),
    /// Somebody who is told of the sound that comes.
    Watched(Watch<'g>),
}

/// One trial under way: what was exchanged so far.
pub(super) struct Talk<'t> {
    pub(super) engine: &'t HttpEngine,
    pub(super) values: Values<'t>,
    pub(super) until: Instant,
    /// When its first request began; before it was answered, when the trial did.
    pub(super) started: Instant,
    /// What ends it before its time.
    pub(super) stop: Option<&'t StopFlag>,
    pub(super) measured: Measured,
    /// A job stands on the server.
    pub(super) job_open: bool,
}

/// Why a trial ended without a result.
pub(super) struct Ended {
    pub(super) outcome: Outcome,
    pub(super) detail: String,
    pub(super) then: RetryAdvice,
}

impl From<NetFailure> for Ended {
    fn from(failure: NetFailure) -> Self {
        let NetFailure { outcome, detail, then } = failure;
        Self { outcome, detail, then }
    }
}

impl Ended {
    pub(super) fn refused(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Refused, detail: detail.into(), then: RetryAdvice::Leave }
    }

    pub(super) fn broken(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Broken, detail: detail.into(), then: RetryAdvice::Leave }
    }
}

impl<'t> Talk<'t> {
    pub(super) fn new(engine: &'t HttpEngine, values: Values<'t>, stop: Option<&'t StopFlag>) -> Self {
        let started = Instant::now();
        let until = started + engine.limits.total();
        Self { engine, values, until, started, stop, measured: Measured::default(), job_open: false }
    }

    pub(super) async fn ask(&mut self, given: Given<'_>, task: Task) -> Result<Reading, Ended> {
        let sound = if let Given::Sound(sound) = given { Some(sound) } else { None };
        let form = self.engine.config.form(task);
        let result = &self.engine.config.result;
        if self.engine.config.job.is_some() {
            return Box::pin(self.job(sound, task)).await;
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
        let received = self.send(&outgoing, &mut taken).await?;
        let took = received.ended.saturating_duration_since(self.started);
        let steps = steps.map(|mut steps| {
            steps.finish(took);
            steps
        });
        self.judge(&received)?;
        let reading = answer::read(received.content(), steps, form, result, &self.engine.wanted, task, took)
            .map_err(Ended::broken)?;
        if let Some(link) = reading.link.clone() {
            return Box::pin(self.fetch_sound(&link, reading)).await;
        }
        self.judge_result(&received, &reading)?;
        Ok(reading)
    }

    pub(super) async fn fetch_sound(&mut self, link: &str, reading: Reading) -> Result<Reading, Ended> {
        let base = Url::parse(&self.values.fill_url(&self.engine.config.request.url)).map_err(Ended::broken)?;
        let url = base.join(link).map_err(|why| Ended::broken(format!("fetching the linked audio: {why}")))?;
        // Keys are for the service itself; a link to another host gets none.
        let headers = if url.target == base.target { self.headers(&self.engine.config.request)? } else { Vec::new() };
        let (method, body) = (Method::GET, body::Body::default());
        let outgoing =
            Outgoing { purpose: "fetch", method, url, headers, body, compressed: false, safe_to_repeat: true };
        let received = self.send(&outgoing, &mut |_, _| true).await?;
        self.judge(&received)?;
        let took_ms = received.ended.saturating_duration_since(self.started).as_secs_f64() * 1e3;
        Ok(Reading { sound: received.body, took_ms, ..reading })
    }

    /// Sends one request and notes it. An error status is no failure here.
    pub(super) async fn send(
        &mut self,
        outgoing: &Outgoing,
        taken: &mut (dyn FnMut(&[u8], Duration) -> bool + Send),
    ) -> Result<Received, Ended> {
        let (engine, until, stop) = (self.engine, self.until, self.stop);
        let mut request = Request::begun(outgoing.purpose, outgoing.body.bytes.len() as u64);
        let received = drive(async {
            let mut exchange = pin!(engine.wire.exchange(outgoing, &engine.limits, until, &mut request, taken));
            let Some(stop) = stop else { return Some(exchange.await) };
            tokio::select! {
                biased;
                received = &mut exchange => Some(received),
                () = stop.asked_for() => None,
            }
        });
        let received = received.await?.ok_or_else(NetFailure::stopped)?;
        if let Ok(received) = &received {
            if self.measured.traffic.requests.is_empty() {
                self.started = received.began;
            }
            self.measured.traffic.arrivals = Arrivals::from_moments(&received.arrivals);
        }
        self.measured.traffic.requests.push(request);
        Ok(received?)
    }

    pub(super) fn outgoing(
        &self,
        purpose: &'static str,
        config: &RequestConfig,
        sound: Option<&[u8]>,
        compressed: bool,
    ) -> Result<Outgoing, Ended> {
        let url = self.values.address(&config.url, &config.query).map_err(Ended::refused)?;
        let body = body::build(config, &self.values, sound, self.engine.audio);
        let default = if body.bytes.is_empty() && body.media_type.is_none() { Method::GET } else { Method::POST };
        let method = config.method.as_ref().and_then(|m| Method::from_bytes(m.as_bytes()).ok()).unwrap_or(default);
        let (headers, safe_to_repeat) = (self.headers(config)?, config.safe_to_repeat);
        Ok(Outgoing { purpose, method, url, headers, body, compressed, safe_to_repeat })
    }

    pub(super) fn headers(&self, config: &RequestConfig) -> Result<Vec<(HeaderName, HeaderValue)>, Ended> {
        self.values.headers(&config.headers).map_err(Ended::refused)
    }

    /// What an answer's status and the rules say; an error for anything but an answer to read. The request already
    /// noted gets the outcome.
    pub(super) fn judge(&mut self, received: &Received) -> Result<(), Ended> {
        let fine = (200..300).contains(&received.status);
        if fine && self.engine.config.outcomes.is_empty() {
            return Ok(());
        }
        let text = String::from_utf8_lossy(&received.body[..received.body.len().min(64 << 10)]);
        let json =
            || json::parse_bytes(&received.body, &Wanted::of(rules::addresses(&self.engine.config.outcomes))).ok();
        let json =
            if self.engine.config.outcomes.is_empty() || received.body.len() > (8 << 20) { None } else { json() };
        let said = rules::Said { status: Some(received.status), json: json.as_ref(), text: &text };
        let rule = rules::find(&self.engine.config.outcomes, &said);
        let after = retry_after(received.header(RETRY_AFTER));
        let (outcome, then) = match rule {
            Some(rule) if rule.outcome == Outcome::Done => return Ok(()),
            Some(rule) => (rule.outcome, rule.then(after)),
            None if fine => return Ok(()),
            // Behind a gateway somebody may have begun.
            None if received.status == 502 && !received.may_repeat => (Outcome::Unreachable, RetryAdvice::Leave),
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
    pub(super) fn judge_result(&mut self, received: &Received, reading: &Reading) -> Result<(), Ended> {
        let outcomes = &self.engine.config.outcomes;
        let Some(text) = reading.last_step.as_ref().filter(|_| !outcomes.is_empty()) else { return Ok(()) };
        let json = json::parse(text, &Wanted::of(rules::addresses(outcomes))).ok();
        let said = rules::Said { status: Some(received.status), json: json.as_ref(), text };
        match rules::find(outcomes, &said) {
            Some(rule) if rule.outcome != Outcome::Done => {
                let then = rule.then(retry_after(received.header(RETRY_AFTER)));
                Err(Ended { outcome: rule.outcome, detail: format!("the stream said: {}", crate::cut(text)), then })
            }
            _ => Ok(()),
        }
    }
}
