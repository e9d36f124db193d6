//! The workers of a run: who does which trial, and the one writer that stores each as it ends.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::sync::{Condvar, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::Outcome;
use fonex_core::cost::Prices;
use fonex_engines::StopFlag;
use fonex_formats::Problem;
use fonex_store::{AudioFiles, Store, TrialKey, TrialRecord};

use super::budget::Spending;
use super::material::Material;
use super::runner::{Engines, Progress, expected};
use super::trial::{Ended, Heardable, Trial};
use crate::RunError;
use crate::bench::{Bench, Plan};

/// Everything the workers of a run share.
pub(super) struct Crew<'r> {
    plan: &'r Plan,
    clips: HashMap<&'r str, &'r Heardable>,
    engines: &'r Engines,
    /// Prices of each variant.
    prices: Vec<Option<Prices>>,
    /// The account of each variant: those of one engine at the same prices are charged together.
    pub(super) accounts: Vec<usize>,
    pub(super) spending: Spending,
    stop: &'r StopFlag,
    /// Why a variant's remaining trials are not begun.
    halted: Mutex<Vec<Option<String>>>,
    /// Why no trial at all is begun any more.
    spent: Mutex<Option<String>>,
    /// Why nothing can be kept any more.
    fault: Mutex<Option<Problem>>,
}

impl<'r> Crew<'r> {
    pub(super) fn new(
        bench: &'r Bench,
        plan: &'r Plan,
        material: &'r Material,
        engines: &'r Engines,
        stop: &'r StopFlag,
    ) -> Self {
        let prices: Vec<Option<Prices>> = plan.variants.iter().map(|variant| bench.prices(variant)).collect();
        let mut known: Vec<(&str, &Option<Prices>)> = Vec::new();
        let accounts = plan.variants.iter().zip(&prices).map(|(variant, prices)| {
            let account = (variant.engine.as_str(), prices);
            known.iter().position(|other| *other == account).unwrap_or_else(|| {
                known.push(account);
                known.len() - 1
            })
        });
        let accounts = accounts.collect();
        let spending = Spending::new(plan.budget, known.into_iter().map(|(_, prices)| prices.clone()).collect());
        Self {
            plan,
            clips: material.usable.iter().map(|h| (h.clip.id.as_str(), h)).collect(),
            engines,
            spending,
            prices,
            accounts,
            stop,
            halted: Mutex::new(vec![None; plan.variants.len()]),
            spent: Mutex::default(),
            fault: Mutex::default(),
        }
    }

    fn is_spent(&self) -> bool {
        self.spent.lock().expect("no holder of this lock panics").is_some()
    }

    /// No further trial is begun.
    fn is_over(&self) -> bool {
        self.stop.is_set() || self.is_spent()
    }

    pub(super) fn not_begun(&self) -> Vec<String> {
        let halted = self.halted.lock().expect("no holder of this lock panics");
        let variants = halted.iter().zip(&self.plan.variants).filter_map(|(why, variant)| {
            Some(format!("the quota of {} is used up ({})", variant.name, why.as_ref()?))
        });
        let spent = self.spent.lock().expect("no holder of this lock panics");
        let budget = spent.iter().map(|what| format!("the next trial would pass the budget of {what}"));
        variants.chain(budget).collect()
    }

    /// Runs one trial; none when it is not begun.
    fn run_trial(&self, key: &TrialKey, files: &AudioFiles, run_started: Instant) -> Option<TrialRecord> {
        if self.halted.lock().expect("no holder of this lock panics")[key.variant].is_some() {
            return None;
        }
        let variant = &self.plan.variants[key.variant];
        let (account, clip) = (self.accounts[key.variant], self.clips[key.clip_id.as_str()]);
        let prices = self.prices[key.variant].as_ref();
        let expected = expected(variant, clip, prices);
        if let Err(what) = self.spending.reserve(account, expected) {
            self.spent.lock().expect("no holder of this lock panics").get_or_insert(what);
            return None;
        }
        let engine = self.engines[&variant.engine].as_ref();
        let trial = Trial { key: key.clone(), engine, variant, clip, stop: self.stop, files, run_started, prices };
        let Ended { record, quota_gone, not_kept } = trial.run();
        self.spending.settle(account, expected, record.used);
        if let Some(problem) = not_kept {
            // The trial is done anew when there is room.
            self.fault.lock().expect("no holder of this lock panics").get_or_insert(problem);
            self.stop.set();
            return None;
        }
        if quota_gone {
            let why = record.detail.clone().unwrap_or_default();
            self.halted.lock().expect("no holder of this lock panics")[key.variant].get_or_insert(why);
        }
        Some(record)
    }

    /// Runs trials on as many workers as the plan allows; gives why it was stopped, if it was.
    pub(super) fn run_trials(
        &self,
        todo: &[TrialKey],
        run: i64,
        store: &Store,
        watch: &dyn Progress,
    ) -> Result<Option<String>, RunError> {
        let (files, run_started) = (store.audio_files(), Instant::now());
        let next = AtomicUsize::new(0);
        let warm_up = WarmUp::new(todo.iter().filter(|key| key.warm_up).count());
        let mut failure: Option<RunError> = None;
        let mut stopped: Option<String> = None;
        let (sender, records) = sync_channel::<TrialRecord>(64);
        thread::scope(|scope| {
            for _ in 0..self.plan.concurrency {
                let (sender, next, files, warm_up) = (sender.clone(), &next, &files, &warm_up);
                scope.spawn(move || {
                    while let Some(key) = todo.get(next.fetch_add(1, Ordering::Relaxed)) {
                        if !key.warm_up {
                            warm_up.wait(&|| self.is_over());
                        }
                        if self.is_over() {
                            break;
                        }
                        let record = self.run_trial(key, files, run_started);
                        if key.warm_up {
                            warm_up.one_ended();
                        }
                        if record.is_some_and(|record| sender.send(record).is_err()) {
                            break;
                        }
                    }
                });
            }
            drop(sender);
            for record in records {
                // A trial that was stopped from our side has no outcome of its own and is done anew on resuming.
                if record.outcome == Outcome::Stopped {
                    self.stop.set();
                    stopped = stopped.take().or(record.detail);
                } else if failure.is_none() {
                    match store.save_trial(run, &record) {
                        Ok(_) => watch.trial(&record),
                        Err(error) => {
                            self.stop.set();
                            failure = Some(error.into());
                        }
                    }
                }
            }
        });
        let fault = self.fault.lock().expect("no holder of this lock panics").take();
        match failure.or_else(|| fault.map(RunError::from)) {
            Some(failure) => Err(failure),
            None if self.stop.is_set() => {
                Ok(Some(stopped.unwrap_or_else(|| "stopped between two trials".to_owned())))
            }
            None => Ok(None),
        }
    }
}

/// The timed trials begin once every warm-up trial has ended, on the same threads: their connections are warm too.
struct WarmUp {
    left: Mutex<usize>,
    changed: Condvar,
}

impl WarmUp {
    fn new(trials: usize) -> Self {
        Self { left: Mutex::new(trials), changed: Condvar::new() }
    }

    fn one_ended(&self) {
        *self.left.lock().expect("no holder of this lock panics") -= 1;
        self.changed.notify_all();
    }

    fn wait(&self, over: &dyn Fn() -> bool) {
        const STEP: Duration = Duration::from_millis(25);
        let mut left = self.left.lock().expect("no holder of this lock panics");
        while *left > 0 && !over() {
            left = self.changed.wait_timeout(left, STEP).expect("no holder of this lock panics").0;
        }
    }
}
