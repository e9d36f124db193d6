//! What anybody sees of a server between machines: the jobs with what is left of them, the workers with their pace, from the server alone.

use std::collections::{HashMap, VecDeque};
use std::time::Duration;

use async_nats::jetstream::kv;
use fonex_formats::Problem;
use serde::Serialize;

use super::access::SpreadAddress;
use super::coordinate::KEPT;
use super::link::Link;
use super::pace::HELD;
use super::{JOBS, Job, Names, WORKERS, WorkerState, asked_key, problem};
use crate::RunError;

/// What a worker's pace is taken over.
const WINDOW: Duration = Duration::from_secs(60);

/// A job as it is seen.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct SeenJob {
    /// What it is.
    #[serde(flatten)]
    pub job: Job,
    /// Groups that nobody has finished.
    pub left: u64,
    /// Results that are not stored yet.
    pub to_store: u64,
    /// Whether somebody stores what it gives; workers wait where that is not so.
    pub asked: bool,
}

/// A worker as it is seen.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct SeenWorker {
    /// What it says of itself.
    #[serde(flatten)]
    pub state: WorkerState,
    /// Trials a second within the last minute, by the server's clock; only where it was looked at more than once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub per_second: Option<f64>,
}

/// What there is to be seen of a server.
#[derive(Debug, Default, Serialize, schemars::JsonSchema)]
pub struct Seen {
    /// Jobs that have not ended.
    pub jobs: Vec<SeenJob>,
    /// Workers at work.
    pub workers: Vec<SeenWorker>,
}

/// Somebody who looks, once or again and again.
pub struct Lookout {
    address: SpreadAddress,
    link: Link,
    jobs: kv::Store,
    workers: kv::Store,
    /// What each worker had made and when it said so, by its id: nanoseconds of the server's clock, trials.
    said: HashMap<String, VecDeque<(i128, u64)>>,
}

impl Lookout {
    /// Opens a connection for it.
    ///
    /// # Errors
    /// When the server cannot be used.
    pub fn open(address: &SpreadAddress) -> Result<Self, RunError> {
        let link = Link::open(address, "fonex, looking")?;
        let (jobs, workers) = (link.bucket(JOBS, KEPT)?, link.bucket(WORKERS, HELD)?);
        Ok(Self { address: address.clone(), link, jobs, workers, said: HashMap::new() })
    }

    /// Jobs with what is left of them, and workers by name.
    ///
    /// # Errors
    /// When the server is away, or a job there is of another version.
    pub fn look(&mut self) -> Result<Seen, Problem> {
        let mut jobs = Vec::new();
        for token in self.link.keys(&self.jobs)? {
            let Some(entry) = self.link.entry(&self.jobs, &token)? else { continue };
            let job: Job = serde_json::from_slice(&entry.value).map_err(|_| {
                problem("a job there cannot be read; it is of another version of Fonex", &self.address)
            })?;
            let names = Names::of(&token);
            let [waiting, to_store] = [names.todo, names.done].map(|name| self.link.messages_in(&name).unwrap_or(0));
            let left = waiting.max(if job.put < job.groups { job.groups } else { 0 });
            let asked = self.link.entry(&self.workers, &asked_key(&token))?.is_some();
            jobs.push(SeenJob { job, left, to_store, asked });
        }
        let mut workers = Vec::new();
        for name in self.link.keys(&self.workers)?.into_iter().filter(|name| !name.starts_with("asks.")) {
            let Some(entry) = self.link.entry(&self.workers, &name)? else { continue };
            let Ok(state) = serde_json::from_slice::<WorkerState>(&entry.value) else { continue };
            let said = self.said.entry(state.id.clone()).or_default();
            let per_second = pace(said, (entry.created.unix_timestamp_nanos(), state.trials));
            workers.push(SeenWorker { state, per_second });
        }
        self.said.retain(|id, _| workers.iter().any(|worker| worker.state.id == *id));
        Ok(Seen { jobs, workers })
    }
}

/// Trials a second between what was said last and the oldest within the window.
fn pace(said: &mut VecDeque<(i128, u64)>, now: (i128, u64)) -> Option<f64> {
    if said.back().is_none_or(|last| last.0 < now.0) {
        said.push_back(now);
    }
    let newest = *said.back()?;
    // One that is older than the window stays as its beginning.
    while said.get(1).is_some_and(|second| newest.0 - second.0 >= WINDOW.as_nanos().cast_signed()) {
        said.pop_front();
    }
    let oldest = said.front()?;
    let seconds = (newest.0 - oldest.0) as f64 / 1e9;
    (seconds > 0.0).then(|| newest.1.saturating_sub(oldest.1) as f64 / seconds)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pace_is_that_of_the_last_minute() {
        let (mut said, second) = (VecDeque::new(), 1_000_000_000);
        assert_eq!(pace(&mut said, (0, 0)), None);
        assert_eq!(pace(&mut said, (0, 0)), None, "nothing new was said");
        assert_eq!(pace(&mut said, (5 * second, 50)), Some(10.0));
        for five in 2..=24_i128 {
            pace(&mut said, (five * 5 * second, 50));
        }
        assert_eq!(pace(&mut said, (125 * second, 110)), Some(1.0), "the first minute is forgotten");
        assert_eq!(pace(&mut said, (120 * second, 0)), Some(1.0), "what is older than the last is not heard");
    }
}
