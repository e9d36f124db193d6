//! The workers of a run: who does which trial, and the one writer that stores each as it ends.

use std::collections::HashMap;
use std::io;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::sync::{Condvar, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::Outcome;
use fonex_core::cost::Prices;
use fonex_engines::{StopFlag, caught};
use fonex_formats::{Place, Problem, io_reason};
use fonex_store::{AudioFiles, Spoken, Store, TrialKey, TrialRecord};

use super::budget::Spending;
use super::material::Material;
use super::order::Group;
use super::runner::{Engines, Progress, expected};
use super::streak::Streak;
use super::trial::{Ended, Heardable, Sound, Trial};
use super::when_over::WhenOver;
use crate::RunError;
use crate::bench::{Bench, Plan};

/// Trials that are written in one go at most.
const MOST_AT_ONCE: usize = 64;

/// Everything the workers of a run share.
pub(crate) struct Crew<'r> {
    plan: &'r Plan,
    clips: HashMap<&'r str, &'r Heardable>,
    engines: &'r Engines,
    /// Prices of each variant.
    prices: Vec<Option<Prices>>,
    /// The account of each variant: those of one engine at the same prices are charged together.
    pub(crate) accounts: Vec<usize>,
    pub(super) spending: Spending,
    /// What the voices that are heard spoke before, when the run was interrupted.
    spoken: HashMap<TrialKey, Spoken>,
    stop: &'r StopFlag,
    /// Told of a variant that is stopped.
    watch: &'r dyn Progress,
    /// How the last trials of each variant failed.
    streaks: Mutex<Vec<Streak>>,
    /// Why a variant's remaining trials are not begun.
    halted: Mutex<Vec<Option<String>>>,
    /// Why no trial at all is begun any more.
    spent: Mutex<Option<String>>,
    /// Why nothing can be kept any more.
    fault: Mutex<Option<Problem>>,
}

impl<'r> Crew<'r> {
    pub(crate) fn new(
        bench: &'r Bench,
        plan: &'r Plan,
        material: &'r Material,
        engines: &'r Engines,
        spoken: HashMap<TrialKey, Spoken>,
        stop: &'r StopFlag,
        watch: &'r dyn Progress,
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
            spoken,
            stop,
            watch,
            streaks: Mutex::new(plan.variants.iter().map(|_| Streak::default()).collect()),
            halted: Mutex::new(vec![None; plan.variants.len()]),
            spent: Mutex::default(),
            fault: Mutex::default(),
        }
    }

    /// Whether it has a clip.
    #[cfg(feature = "spread")]
    pub(crate) fn has_clip(&self, id: &str) -> bool {
        self.clips.contains_key(id)
    }

    /// Why nothing can be kept any more.
    #[cfg(feature = "spread")]
    pub(crate) fn fault(&self) -> Option<Problem> {
        self.fault.lock().expect("no holder of this lock panics").clone()
    }

    fn is_spent(&self) -> bool {
        self.spent.lock().expect("no holder of this lock panics").is_some()
    }

    /// No further trial is begun.
    fn is_over(&self) -> bool {
        self.stop.is_set() || self.is_spent()
    }

    pub(crate) fn not_begun(&self) -> Vec<String> {
        let halted = self.halted.lock().expect("no holder of this lock panics");
        let variants = halted
            .iter()
            .zip(&self.plan.variants)
            .filter_map(|(why, variant)| Some(format!("{}: {}", variant.name, why.as_ref()?)));
        let spent = self.spent.lock().expect("no holder of this lock panics");
        let budget = spent.iter().map(|what| format!("the next trial would pass the budget of {what}"));
        variants.chain(budget).collect()
    }

    /// Runs a group one trial after the other, until one is not begun; gives each record away. `spoken` is what its voice spoke before.
    pub(crate) fn run_group(
        &self,
        group: &[TrialKey],
        mut spoken: Option<Spoken>,
        files: &AudioFiles,
        run_started: Instant,
        keep: &mut dyn FnMut(TrialRecord) -> bool,
    ) {
        for key in group {
            let before = || {
                let voice = self.plan.variants[key.variant].hears?;
                self.spoken.get(&TrialKey { variant: voice, ..key.clone() })
            };
            let to_hear = spoken.as_ref().or_else(before);
            let Some(record) = self.run_trial(key, to_hear, files, run_started) else { return };
            if self.plan.variants[key.variant].hears.is_none() {
                spoken = Some(Spoken { outcome: record.outcome, audio_file: record.audio_file.clone() });
            }
            // What was stopped tells why.
            let stopped = record.outcome == Outcome::Stopped;
            if !keep(record) || stopped || self.is_over() {
                return;
            }
        }
    }

    /// Runs one trial; none when it is not begun.
    fn run_trial(
        &self,
        key: &TrialKey,
        to_hear: Option<&Spoken>,
        files: &AudioFiles,
        run_started: Instant,
    ) -> Option<TrialRecord> {
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
        let sound = variant.hears.map(|voice| self.sound_of(voice, to_hear, files));
        let engine = self.engines[&variant.engine].as_ref();
        let trial = |sound| Trial {
            key: key.clone(),
            engine,
            variant,
            clip: &clip.clip,
            sound,
            stop: self.stop,
            files,
            run_started,
            prices,
        };
        let ended = caught(|| match &sound {
            None => trial(&clip.sound).run(),
            Some(Ok(sound)) => trial(sound).run(),
            Some(Err(why)) => trial(&clip.sound).without_sound(why.clone()),
        });
        let Ended { record, quota_gone, not_kept } = ended.unwrap_or_else(|why| trial(&clip.sound).panicked(why));
        self.spending.settle(account, expected, record.used);
        if let Some(problem) = not_kept {
            // The trial is done again when there is room.
            self.fault.lock().expect("no holder of this lock panics").get_or_insert(problem);
            self.stop.set();
            return None;
        }
        if quota_gone {
            self.halt(key.variant, &format!("its quota is used up ({})", why_of(&record)));
        }
        self.follow(&record);
        Some(record)
    }

    /// Stops the variant of a trial if enough trials in a row have failed for the same reason.
    fn follow(&self, record: &TrialRecord) {
        let variant = record.key.variant;
        let length = self.streaks.lock().expect("no holder of this lock panics")[variant].take(record);
        if self.plan.stop_after_refusals > 0 && length >= self.plan.stop_after_refusals {
            let how = if record.outcome == Outcome::Refused { "refused" } else { "unreachable" };
            self.halt(variant, &format!("{how} {length} times in a row ({})", why_of(record)));
        }
    }

    fn halt(&self, variant: usize, why: &str) {
        let mut halted = self.halted.lock().expect("no holder of this lock panics");
        if halted[variant].is_none() {
            halted[variant] = Some(why.to_owned());
            self.watch.halted(&self.plan.variants[variant].name, why);
        }
    }

    /// What a voice spoke, as it is kept.
    fn sound_of(&self, voice: usize, spoken: Option<&Spoken>, files: &AudioFiles) -> Result<Sound, String> {
        let name = &self.plan.variants[voice].name;
        let spoken = spoken.ok_or_else(|| format!("nothing to hear: {name} has not spoken"))?;
        let file = spoken.audio_file.as_ref();
        let file = file.ok_or_else(|| format!("nothing to hear: {name} ended as {}", spoken.outcome.as_str()))?;
        Sound::decode(&files.path(file), None).map(Sound::Held)
    }

    /// Runs trials on as many workers as the plan allows; gives why it was stopped, if it was.
    pub(crate) fn run_trials(&self, todo: &[Group], run: i64, store: &Store) -> Result<Option<String>, RunError> {
        let (files, run_started) = (store.audio_files(), Instant::now());
        let next = AtomicUsize::new(0);
        let warm_up = WarmUp::new(todo.iter().filter(|group| group[0].warm_up).count());
        let mut failure: Option<RunError> = None;
        let mut stopped: Option<String> = None;
        let (sender, records) = sync_channel::<TrialRecord>(64);
        thread::scope(|scope| {
            for number in 0..self.plan.concurrency {
                let (sender, next, files, warm_up) = (sender.clone(), &next, &files, &warm_up);
                let spawned = thread::Builder::new().name("fonex-trial".to_owned()).spawn_scoped(scope, move || {
                    while let Some(group) = todo.get(next.fetch_add(1, Ordering::Relaxed)) {
                        if !group[0].warm_up {
                            warm_up.wait(&|| self.is_over());
                        }
                        if self.is_over() {
                            break;
                        }
                        let mut open = true;
                        let _ended = warm_up.ends_with(group[0].warm_up);
                        self.run_group(group, None, files, run_started, &mut |record| {
                            open = sender.send(record).is_ok();
                            open
                        });
                        if !open {
                            break;
                        }
                    }
                });
                if let Err(error) = spawned {
                    // Fewer workers do the same trials.
                    if number == 0 {
                        failure = Some(no_thread(&error).into());
                    }
                    break;
                }
            }
            drop(sender);
            while let Ok(first) = records.recv() {
                // What has ended meanwhile is written with it: a server answers once for all of them.
                let mut round: Vec<TrialRecord> = vec![first];
                round.extend(records.try_iter().take(MOST_AT_ONCE - 1));
                // A trial that was stopped from our side has no outcome of its own and is done again on resuming.
                for stopped_one in round.extract_if(.., |record| record.outcome == Outcome::Stopped) {
                    self.stop.set();
                    stopped = stopped.take().or(stopped_one.detail);
                }
                if failure.is_none() {
                    match store.save_trials(run, &round) {
                        Ok(()) => round.iter().for_each(|record| self.watch.trial(record)),
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

fn why_of(record: &TrialRecord) -> &str {
    record.detail.as_deref().unwrap_or("no reason given")
}

/// The machine gives no thread at all.
pub(crate) fn no_thread(error: &io::Error) -> Problem {
    let what = format!("this machine has no thread left: {}", io_reason(error));
    Problem::new(what, Place::default()).remedy("end other programs, or raise the limit (ulimit -u)")
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

    /// Counts a warm-up trial as ended when the guard is dropped, also by a panic.
    fn ends_with(&self, is_warm_up: bool) -> impl Drop {
        WhenOver::new(move || {
            if is_warm_up {
                *self.left.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
                self.changed.notify_all();
            }
        })
    }

    fn wait(&self, over: &dyn Fn() -> bool) {
        const STEP: Duration = Duration::from_millis(25);
        let mut left = self.left.lock().expect("no holder of this lock panics");
        while *left > 0 && !over() {
            left = self.changed.wait_timeout(left, STEP).expect("no holder of this lock panics").0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_warm_up_trial_that_panics_is_over_for_those_that_wait() {
        let warm_up = WarmUp::new(2);
        let one = || {
            let _ended = warm_up.ends_with(true);
            assert!(thread::current().name().is_none(), "meant to fail");
        };
        assert!(caught(one).is_err());
        drop(warm_up.ends_with(false));
        assert_eq!(*warm_up.left.lock().unwrap_or_else(PoisonError::into_inner), 1);
        drop(warm_up.ends_with(true));
        warm_up.wait(&|| false);
    }
}
