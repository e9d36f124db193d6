//! What others see of a worker: its entry among those at work, written again and again as long as it lives.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use async_nats::jetstream::kv;
use fonex_formats::{Place, Problem, checksum};

use super::link::Link;
use super::pace::HELD;
use super::{WorkOptions, WorkReport, WorkerState, key_of, message};
use crate::RunError;
use crate::execute::{now, this_machine};

/// A worker's entry among those at work.
pub(super) struct Shown<'s> {
    link: &'s Link,
    workers: kv::Store,
    name: String,
    state: Mutex<WorkerState>,
    pub(super) trials: AtomicU64,
    pub(super) failed: AtomicU64,
    pub(super) given_up: AtomicU64,
}

impl<'s> Shown<'s> {
    pub(super) fn begin(link: &'s Link, workers: kv::Store, options: &WorkOptions) -> Result<Self, RunError> {
        let key = key_of(&options.name);
        let id = checksum::of_bytes(
            format!("{} {:?} {}", options.name, std::time::SystemTime::now(), std::process::id()).as_bytes(),
        )[..16]
            .to_owned();
        let state = WorkerState {
            name: options.name.clone(),
            id,
            fonex: env!("CARGO_PKG_VERSION").to_owned(),
            class: options.class.clone(),
            cpu: this_machine().cpu,
            since: now(),
            plan: None,
            trials: 0,
            failed: 0,
        };
        let told = message(&state)?;
        let taken = link.entry(&workers, &key)?.is_some();
        let begun = if taken { Ok(0) } else { link.ask("begin", workers.create(&key, told.into())) };
        // Of two that begin at the same moment the later one finds the entry of the other.
        if taken || (begun.is_err() && link.entry(&workers, &key)?.is_some()) {
            let problem = Problem::new(
                format!("a worker named {} is at work already", options.name),
                Place::default().field("--name"),
            );
            let remedy =
                format!("give this one another name; one that was killed is forgotten after {} s", HELD.as_secs());
            return Err(problem.remedy(remedy).into());
        }
        begun?;
        let (trials, failed, given_up) = (AtomicU64::new(0), AtomicU64::new(0), AtomicU64::new(0));
        Ok(Self { link, workers, name: key, state: Mutex::new(state), trials, failed, given_up })
    }

    /// The bucket of workers at work.
    pub(super) const fn workers(&self) -> &kv::Store {
        &self.workers
    }

    pub(super) fn report(&self) -> WorkReport {
        let [trials, failed, given_up] =
            [&self.trials, &self.failed, &self.given_up].map(|n| n.load(Ordering::SeqCst));
        WorkReport { trials, failed, given_up }
    }

    pub(super) fn works_on(&self, plan: Option<&str>) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).plan = plan.map(str::to_owned);
        self.tell();
    }

    pub(super) fn tell(&self) {
        let WorkReport { trials, failed, .. } = self.report();
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner).clone();
        (state.trials, state.failed) = (trials, failed);
        // A server that is away is tried again the next time.
        drop(message(&state).and_then(|told| self.link.ask("show", self.workers.put(&self.name, told.into()))));
    }

    pub(super) fn end(&self) {
        drop(self.link.ask("end", self.workers.purge(&self.name)));
    }
}
