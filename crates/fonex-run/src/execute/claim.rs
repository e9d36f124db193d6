//! Taking the run of a plan for this process, and letting it go: the same wherever its trials are made.

use std::collections::HashSet;

use fonex_store::{LeftOut, NewRun, RunLock, Store, TrialKey};

use super::{Execution, machine};
use crate::RunError;
use crate::bench::Plan;

/// A run that nobody else executes as long as this is held.
pub(crate) struct Claimed {
    pub(crate) run: i64,
    pub(crate) is_new: bool,
    pub(crate) lock: RunLock,
    pub(crate) done: HashSet<TrialKey>,
}

impl Claimed {
    /// Takes what is left of an interrupted run with this fingerprint and label, or makes a new one.
    pub(crate) fn take(
        store: &mut Store,
        fingerprint: &str,
        plan: &Plan,
        (label, anew): (Option<&str>, bool),
        make: impl FnOnce() -> Result<NewRun, RunError>,
    ) -> Result<Self, RunError> {
        // Of two that start at the same moment the second finds the first's run.
        let deciding = store.decide()?;
        let unfinished = if anew { None } else { store.unfinished(fingerprint, label)? };
        let run = match unfinished {
            Some(run) => run,
            None => store.create_run(&make()?)?,
        };
        let lock = store.lock(run)?;
        drop(deciding);
        store.check_variants(run, plan.variants.len())?;
        Ok(Self { run, is_new: unfinished.is_none(), lock, done: store.done(run)? })
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
