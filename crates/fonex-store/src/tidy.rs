//! Looking after what is kept: other labels, runs that go, sound that nothing refers to.

use std::collections::{HashMap, HashSet};

use crate::database::values;
use crate::{Store, StoreError};

impl Store {
    /// Gives a run another label, or none.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn relabel(&self, run: i64, label: Option<&str>) -> Result<(), StoreError> {
        self.database.execute("update runs set label = $1 where id = $2", values![label, run])?;
        Ok(())
    }

    /// Deletes runs with their trials and facts, and the clips of corpora that no other run has. Sound files are left to
    /// [`Self::unused_audio`].
    ///
    /// # Errors
    /// When the store cannot be written; then nothing is deleted.
    pub fn delete_runs(&self, runs: &[i64]) -> Result<(), StoreError> {
        let transaction = self.database.begin()?;
        for run in runs {
            for table in ["trials", "facts"] {
                self.database.execute(&format!("delete from {table} where run_id = $1"), values![*run])?;
            }
            self.database.execute("delete from runs where id = $1", values![*run])?;
        }
        for table in ["clips", "sheets"] {
            let sql = format!("delete from {table} where corpus_checksum not in (select corpus_checksum from runs)");
            self.database.execute(&sql, &[])?;
        }
        transaction.commit()
    }

    /// Sound files to which no trial refers, but for the trials of `without`: their names and sizes in bytes.
    ///
    /// # Errors
    /// When the store or its folder cannot be read.
    pub fn unused_audio(&self, without: &[i64]) -> Result<Vec<(String, u64)>, StoreError> {
        let mut used: HashSet<String> = HashSet::new();
        let sql = "select distinct run_id, audio_file from trials where audio_file is not null";
        self.database.each(sql, &[], |row| {
            if !without.contains(&row.get(0)?) {
                used.insert(row.get(1)?);
            }
            Ok(())
        })?;
        let files = self.audio()?;
        Ok(files.into_iter().filter(|(name, _)| !used.contains(name)).collect())
    }
}

/// What is to go from a store.
#[derive(Debug, Clone, Default)]
pub struct Pruning {
    /// Runs that started before this moment, RFC 3339 in UTC.
    pub before: Option<String>,
    /// The newest so many runs of each plan stay.
    pub keep: Option<usize>,
    /// Runs with a label go as well.
    pub labelled: bool,
    /// Facts of any other version are computed anew when they are asked for.
    pub facts_version: u32,
    /// Nothing is deleted; what would go is told.
    pub dry_run: bool,
}

/// What went from a store, or would.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pruned {
    /// Runs: number, label and plan.
    pub runs: Vec<(i64, Option<String>, String)>,
    /// Runs that stay because they are being executed.
    pub executed: Vec<i64>,
    /// Columns of facts that nobody reads any more.
    pub facts: u64,
    /// Sound files to which no trial refers.
    pub sounds: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Facts that nobody reads any more.
const STALE: &str = "from facts where version <> $1 and profile not like 'building/%'";

impl Store {
    /// Deletes what is no longer wanted: runs by age and number, facts that are stale, sound to which nothing refers. Runs go only where
    /// `before` or `keep` asks for it; where both do, only those that both let go.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn prune(&self, pruning: &Pruning) -> Result<Pruned, StoreError> {
        let mut pruned = Pruned::default();
        let mut held = Vec::new();
        for (id, label, plan) in self.outlived(pruning)? {
            match self.lock(id) {
                Ok(lock) => {
                    pruned.runs.push((id, label, plan));
                    held.push((id, lock));
                }
                Err(StoreError::Busy(_)) => pruned.executed.push(id),
                Err(error) => return Err(error),
            }
        }
        let going: Vec<i64> = pruned.runs.iter().map(|(id, ..)| *id).collect();
        // Sound is written before the trial that refers to it: it is left alone while anybody executes a run.
        let executed =
            self.database.rows("select id from runs where state <> 'finished'", &[], |row| row.get::<i64>(0))?;
        let sound = if executed.iter().any(|run| !going.contains(run) && self.is_executed(*run)) {
            Vec::new()
        } else {
            self.unused_audio(&going)?
        };
        (pruned.sounds, pruned.bytes) = (sound.len() as u64, sound.iter().map(|(_, bytes)| bytes).sum());
        let half_built = self.half_built()?;
        let sql = format!("select count(*) {STALE}");
        let stale: u64 = self.database.only(&sql, values![pruning.facts_version], |row| row.get(0))?;
        pruned.facts = stale + half_built.iter().map(|(.., facts)| facts).sum::<u64>();
        if !pruning.dry_run {
            self.delete_runs(&going)?;
            self.database.execute(&format!("delete {STALE}"), values![pruning.facts_version])?;
            for (run, profile, _) in &half_built {
                self.forget_facts(*run, profile)?;
            }
            for (name, _) in &sound {
                self.delete_audio(name)?;
            }
            if self.database.is_file() {
                self.database.execute("vacuum", &[])?;
            }
        }
        for (run, lock) in held {
            self.unlock(run, lock);
        }
        Ok(pruned)
    }

    /// The runs that are let go, oldest first.
    fn outlived(&self, pruning: &Pruning) -> Result<Vec<(i64, Option<String>, String)>, StoreError> {
        if pruning.before.is_none() && pruning.keep.is_none() {
            return Ok(Vec::new());
        }
        let mut newer: HashMap<String, usize> = HashMap::new();
        let sql = "select id, label, plan, started_at from runs order by id desc";
        let mut going = Vec::new();
        self.database.each(sql, &[], |row| {
            let (id, label, plan, started_at): (i64, Option<String>, String, String) =
                (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
            let place = newer.entry(plan.clone()).or_default();
            *place += 1;
            let kept = pruning.keep.is_some_and(|keep| *place <= keep)
                || pruning.before.as_ref().is_some_and(|before| started_at >= *before)
                || label.is_some() && !pruning.labelled;
            if !kept {
                going.push((id, label, plan));
            }
            Ok(())
        })?;
        going.reverse();
        Ok(going)
    }
}
