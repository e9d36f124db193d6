//! Taking the run of a plan for this process, and letting it go: the same wherever its trials are made.

use std::collections::HashSet;

use fonex_core::Outcome;
use fonex_formats::{Place, Problem};
use fonex_store::{LeftOut, NewRun, RunLock, Store, TrialKey};

use super::{Execution, machine};
use crate::RunError;
use crate::bench::Plan;

/// Which run an execution of a plan belongs to.
#[derive(Debug, Clone, Copy)]
pub enum Which<'w> {
    /// What is left of an interrupted run with this label, or a new run. No other run may have the label.
    Resumed(Option<&'w str>),
    /// A new run with this label.
    Anew(Option<&'w str>),
    /// This run: its trials that ended with one of these outcomes are made again, and those that are left.
    Failed(i64, &'w [Outcome]),
}

impl<'w> Which<'w> {
    /// The label of a run that may be new.
    pub(crate) const fn label(self) -> Option<&'w str> {
        match self {
            Self::Resumed(label) | Self::Anew(label) => label,
            Self::Failed(..) => None,
        }
    }
}

/// A run that nobody else executes as long as this is held.
pub(crate) struct Claimed {
    pub(crate) run: i64,
    pub(crate) is_new: bool,
    pub(crate) lock: RunLock,
    pub(crate) done: HashSet<TrialKey>,
}

impl Claimed {
    /// Claims the run that `which` selects, or creates one.
    pub(crate) fn take(
        store: &mut Store,
        fingerprint: &str,
        plan: &Plan,
        which: Which<'_>,
        make: impl FnOnce() -> Result<NewRun, RunError>,
    ) -> Result<Self, RunError> {
        // Of two that start at the same moment the second finds the first's run.
        let deciding = store.decide()?;
        let known = match which {
            Which::Anew(_) => None,
            Which::Failed(run, _) => {
                check_same(store, run, fingerprint)?;
                Some(run)
            }
            Which::Resumed(label) => {
                let unfinished = store.unfinished(fingerprint, label)?;
                if let (None, Some(label)) = (unfinished, label) {
                    check_free(store, label)?;
                }
                unfinished
            }
        };
        let run = match known {
            Some(run) => run,
            None => store.create_run(&make()?)?,
        };
        let lock = store.lock(run)?;
        drop(deciding);
        store.check_variants(run, plan.variants.len())?;
        if let Which::Failed(run, outcomes) = which {
            store.reopen(run, &to_repeat(store, plan, run, outcomes)?)?;
        }
        Ok(Self { run, is_new: known.is_none(), lock, done: store.done(run)? })
    }

    /// Lets the run go; one of which nothing is left is finished.
    pub(crate) fn end(
        self,
        store: &mut Store,
        stopped: Option<String>,
        not_begun: Vec<String>,
        left_out: Vec<LeftOut>,
    ) -> Result<Execution, RunError> {
        if stopped.is_none() && not_begun.is_empty() {
            store.finish_run(self.run, &machine::now())?;
        }
        store.unlock(self.run, self.lock);
        let failed =
            store.outcomes(self.run)?.iter().filter(|(outcome, _)| !outcome.is_answer()).map(|(_, n)| n).sum();
        Ok(Execution { run: self.run, resumed_with: self.done.len() as u64, stopped, failed, left_out, not_begun })
    }
}

/// The trials of a run to repeat, and the trials of the recognisers that hear their audio.
fn to_repeat(store: &Store, plan: &Plan, run: i64, outcomes: &[Outcome]) -> Result<HashSet<TrialKey>, RunError> {
    let mut again = HashSet::new();
    for (key, _) in store.failed(run)?.into_iter().filter(|(_, outcome)| outcomes.contains(outcome)) {
        let hearers = (0..plan.variants.len()).filter(|at| plan.variants[*at].hears == Some(key.variant));
        again.extend(hearers.map(|variant| TrialKey { variant, ..key.clone() }));
        again.insert(key);
    }
    Ok(again)
}

/// Refuses a run of another plan or corpus.
fn check_same(store: &Store, run: i64, fingerprint: &str) -> Result<(), RunError> {
    let own = store.fingerprint(run)?;
    if own == fingerprint {
        return Ok(());
    }
    let what = if own.starts_with("imported ") {
        format!("run {run} was imported: its trials cannot be made again here")
    } else {
        format!("the plan, its engines, the text profile, the seed or the corpus have changed since run {run}")
    };
    Err(Problem::new(what, Place::default())
        .expected("the bench file and the corpus that the run was made with; limits, prices and keys may differ")
        .remedy("start a new run")
        .into())
}

fn check_free(store: &Store, label: &str) -> Result<(), RunError> {
    let Some(earlier) = store.labelled(label)?.into_iter().next() else { return Ok(()) };
    let what = format!("run {} (plan {}) has the label \"{label}\" already", earlier.id, earlier.plan);
    let problem = Problem::new(what, Place::default().field("--label"));
    Err(problem.remedy("choose another label, or add --again for a second run with this one").into())
}
