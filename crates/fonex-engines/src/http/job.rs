//! Services that take a job: submit, ask again until it is done, fetch the result, and leave nothing behind.

use std::time::Duration;

use fonex_core::Outcome;
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::answer::{self, Reading};
use super::exchange::Received;
use super::{Ended, RequestConfig, Talk};
use crate::mapping::{Address, Wanted};
use crate::net::NetFailure;
use crate::{Task, cut};

/// How a job is followed. `{job}` in the requests is what the submission answered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct JobConfig {
    /// Where the answer to the submission names the job: an id, or a whole address.
    pub id: Address,
    /// The request that asks how far it is.
    pub poll: RequestConfig,
    /// Where the answer to that says so.
    pub state: Address,
    /// States in which it is done.
    pub done: Vec<String>,
    /// States in which it has failed.
    #[serde(default)]
    pub failed: Vec<String>,
    /// Seconds between two polls.
    #[serde(default = "one_second")]
    pub every_s: f64,
    /// The request that fetches the result; the last poll holds it where this is left out.
    #[serde(default)]
    pub fetch: Option<RequestConfig>,
    /// The request that removes what was left on the server, also after a failure.
    #[serde(default)]
    pub delete: Option<RequestConfig>,
}

const fn one_second() -> f64 {
    1.0
}

/// Time the clearing up may take once the trial's own time is over.
const CLEARING: Duration = Duration::from_secs(10);

impl JobConfig {
    pub(super) fn check(&self, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if !(0.01..=3_600.0).contains(&self.every_s) {
            return Err(
                Problem::new(format!("every_s is {}", self.every_s), at("job.every_s")).expected("0.01 to 3600")
            );
        }
        if self.done.is_empty() {
            return Err(
                Problem::new("no state means that the job is done", at("job.done")).expected("at least one state")
            );
        }
        self.requests()
            .try_for_each(|(name, request)| request.check(None, true, settings, &format!("job.{name}"), at))
    }

    fn requests(&self) -> impl Iterator<Item = (&'static str, &RequestConfig)> {
        let further = [("fetch", &self.fetch), ("delete", &self.delete)];
        std::iter::once(("poll", &self.poll))
            .chain(further.into_iter().filter_map(|(name, request)| Some((name, request.as_ref()?))))
    }

    pub(super) fn variables(&self) -> Vec<String> {
        self.requests().flat_map(|(_, request)| request.variables()).collect()
    }
}

fn parsed(received: &Received, what: &str, address: &Address) -> Result<Value, Ended> {
    crate::json::parse_bytes(&received.body, &Wanted::of([address])).map_err(|error| {
        Ended::broken(format!("the answer to {what} is not JSON ({error}): {}", beginning(received)))
    })
}

/// The beginning of an answer, to be quoted.
fn beginning(received: &Received) -> String {
    cut(&String::from_utf8_lossy(&received.body[..received.body.len().min(400)]))
}

fn plain(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

impl Talk<'_> {
    pub(super) async fn job(&mut self, sound: Option<&[u8]>, task: Task) -> Result<Reading, Ended> {
        let Some(job) = &self.engine.config.job else { return Err(Ended::broken("there is no job")) };
        let outgoing = self.outgoing("submit", &self.engine.config.request, sound, true)?;
        let submitted = self.send(&outgoing, &mut |_, _| true).await?;
        self.judge(&submitted)?;
        let answer = parsed(&submitted, "the submission", &job.id)?;
        let id = job
            .id
            .one(&answer)
            .ok_or_else(|| Ended::broken(format!("the submission's answer names no job at {}", job.id)))?;
        self.values.set("job", plain(id));
        self.job_open = true;
        self.follow(job, task).await
    }

    /// Deletes the job that stands on the server. What was measured has ended before, and clearing up may fail without
    /// harm to the result.
    pub(super) async fn clear_up(&mut self) {
        let delete = self.engine.config.job.as_ref().and_then(|job| job.delete.as_ref());
        let Some(delete) = delete else { return };
        self.until = std::time::Instant::now() + CLEARING;
        self.stop = None;
        let arrivals = self.measured.traffic.arrivals.clone();
        if let Ok(outgoing) = self.outgoing("delete", delete, None, true)
            && let Ok(deleted) = self.send(&outgoing, &mut |_, _| true).await
            && deleted.status >= 400
            && deleted.status != 404
            && let Some(request) = self.measured.traffic.requests.last_mut()
        {
            request.outcome = Outcome::Broken;
            request.detail = Some(format!("left on the server: status {}", deleted.status));
        }
        self.measured.traffic.arrivals = arrivals;
    }

    async fn follow(&mut self, job: &JobConfig, task: Task) -> Result<Reading, Ended> {
        let limit = self.engine.limits.total_s;
        let late = |state: &str| Ended::from(NetFailure::late(format!("the job was still {state} after {limit} s")));
        let mut last_state: Option<String> = None;
        let polled = loop {
            let outgoing = self.outgoing("poll", &job.poll, None, true)?;
            let polled = self.send(&outgoing, &mut |_, _| true).await;
            let polled = polled.map_err(|ended| match &last_state {
                Some(state) if ended.outcome == Outcome::Late && std::time::Instant::now() >= self.until => {
                    late(state)
                }
                _ => ended,
            })?;
            self.judge(&polled)?;
            let answer = parsed(&polled, "the poll", &job.state)?;
            let state = job.state.one(&answer).map(plain);
            let state =
                state.ok_or_else(|| Ended::broken(format!("the poll's answer has no state at {}", job.state)))?;
            if job.done.contains(&state) {
                break polled;
            }
            if job.failed.contains(&state) {
                let said = beginning(&polled);
                return Err(Ended::broken(format!("the job ended as {state}: {said}")));
            }
            let every = fonex_core::latency::span(job.every_s);
            if std::time::Instant::now() + every >= self.until {
                return Err(late(&state));
            }
            last_state = Some(state);
            if !self.stop.is_none_or(|stop| stop.pause(every)) {
                return Err(NetFailure::stopped().into());
            }
        };
        let received = match &job.fetch {
            None => polled,
            Some(fetch) => {
                let outgoing = self.outgoing("fetch", fetch, None, task != Task::Speak)?;
                let fetched = self.send(&outgoing, &mut |_, _| true).await?;
                self.judge(&fetched)?;
                fetched
            }
        };
        let took = received.ended.saturating_duration_since(self.started);
        let (form, result) = (self.engine.config.form(task), &self.engine.config.result);
        let reading = answer::read(received.content(), None, form, result, &self.engine.wanted, task, took)
            .map_err(Ended::broken)?;
        match reading.link.clone() {
            Some(link) => self.fetch_sound(&link, reading).await,
            None => Ok(reading),
        }
    }
}
