//! What analysis keeps beside the trials, so that it need not be computed again: facts of a run under one text profile, and
//! what the clips of a corpus share. The store does not know what is in them.

use std::collections::HashSet;

use crate::database::values;
use crate::lock::{RunLock, random};
use crate::{Store, StoreError};

/// Under what facts were computed: other facts are stale.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FactsKey {
    /// The run.
    pub run: i64,
    /// Checksum of the text profile.
    pub profile: String,
    /// Version of what computes them.
    pub version: u32,
    /// Trials there were.
    pub trials: u64,
}

/// One column of facts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptFact {
    /// Place of the variant in the run.
    pub variant: usize,
    /// Name of the fact.
    pub fact: String,
    /// The column.
    pub record: Vec<u8>,
}

/// Facts that are being kept: under a name of their own until they are whole, so that nobody waits for a lock meanwhile.
pub struct KeepingFacts<'s> {
    key: FactsKey,
    /// The same under the name of what is being built.
    building: FactsKey,
    store: &'s Store,
    /// Marks the build as in progress.
    _held: RunLock,
}

/// Before the profile of facts that are being built; the number of the build stands behind.
const BUILDING: &str = "building/";

impl KeepingFacts<'_> {
    /// Adds one.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn add(&self, fact: &KeptFact) -> Result<(), StoreError> {
        self.store.keep_fact(&self.building, fact)
    }

    /// Keeps what was added in the place of what was kept before, all or nothing.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn finish(self) -> Result<(), StoreError> {
        let database = &self.store.database;
        let transaction = database.begin()?;
        let (run, profile) = (self.key.run, &self.key.profile);
        if !database.is_file() {
            // Of two who have computed the same the second replaces what the first has kept, and does not collide with it.
            database.each("select 1 from runs where id = $1 for update", values![run], |_| Ok(()))?;
        }
        database.execute("delete from facts where run_id = $1 and profile = $2", values![run, profile])?;
        let sql = "update facts set profile = $1 where run_id = $2 and profile = $3";
        database.execute(sql, values![profile, run, &self.building.profile])?;
        transaction.commit()
    }
}

impl Drop for KeepingFacts<'_> {
    fn drop(&mut self) {
        // After the end there is nothing left under this name.
        drop(self.store.forget_facts(self.building.run, &self.building.profile));
    }
}

impl Store {
    /// Trials of a run that have an outcome, warm-up included.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trial_count(&self, run: i64) -> Result<u64, StoreError> {
        let sql = "select count(*) from trials where run_id = $1";
        self.database.only(sql, values![run], |row| row.get(0))
    }

    /// Begins to keep facts of a run under one text profile. Nothing is locked until they are whole.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_facts(&self, key: FactsKey) -> Result<KeepingFacts<'_>, StoreError> {
        // What a killed process left behind goes first.
        for (run, profile, _) in self.half_built()?.into_iter().filter(|(run, ..)| *run == key.run) {
            self.forget_facts(run, &profile)?;
        }
        let (builder, held) = self.builder()?;
        let profile = format!("{BUILDING}{builder}/{}", key.profile);
        // A store that may only be read shows it here.
        self.forget_facts(key.run, &profile)?;
        Ok(KeepingFacts { building: FactsKey { profile, ..key.clone() }, key, store: self, _held: held })
    }

    /// Facts whose builder is gone: run, profile and how many.
    pub(crate) fn half_built(&self) -> Result<Vec<(i64, String, u64)>, StoreError> {
        let sql = "select run_id, profile, count(*) from facts where profile like $1 group by run_id, profile order by run_id, profile";
        let mut found = Vec::new();
        for (run, profile, facts) in self.database.rows(sql, values![format!("{BUILDING}%")], |row| {
            Ok((row.get::<i64>(0)?, row.get::<String>(1)?, row.get::<u64>(2)?))
        })? {
            let builder = profile[BUILDING.len()..].split('/').next();
            if builder.is_none_or(|builder| self.is_gone(builder)) {
                found.push((run, profile, facts));
            }
        }
        Ok(found)
    }

    /// A number for a build, and the lock that holds it. Not the process's number: two containers on one store may have the
    /// same.
    fn builder(&self) -> Result<(i64, RunLock), StoreError> {
        loop {
            // Above the numbers of runs.
            let number = i64::from((1 << 30) | (random() >> 2));
            match self.lock(number) {
                Ok(held) => return Ok((number, held)),
                Err(StoreError::Busy(_)) => {}
                Err(error) => return Err(error),
            }
        }
    }

    /// Whether nobody holds a build. What has no number is of a version that is gone.
    fn is_gone(&self, builder: &str) -> bool {
        builder.parse().map_or(true, |number| !self.is_executed(number))
    }

    pub(crate) fn forget_facts(&self, run: i64, profile: &str) -> Result<(), StoreError> {
        self.database.execute("delete from facts where run_id = $1 and profile = $2", values![run, profile])?;
        Ok(())
    }

    /// Keeps one more fact of a run under a text profile.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_fact(&self, key: &FactsKey, fact: &KeptFact) -> Result<(), StoreError> {
        let sql = "insert into facts (run_id, profile, version, trials, variant, fact, record)
             values ($1, $2, $3, $4, $5, $6, $7)
             on conflict (run_id, profile, variant, fact)
             do update set version = excluded.version, trials = excluded.trials, record = excluded.record";
        let (profile, record) = (&key.profile, fact.record.as_slice());
        self.database
            .execute(sql, values![key.run, profile, key.version, key.trials, fact.variant, &fact.fact, record])?;
        Ok(())
    }

    /// Keeps more facts of a run under a text profile, all or none of them.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_more_facts(&self, key: &FactsKey, facts: &[KeptFact]) -> Result<(), StoreError> {
        let transaction = self.database.begin()?;
        facts.iter().try_for_each(|fact| self.keep_fact(key, fact))?;
        transaction.commit()
    }

    /// One column of facts; none where it was not kept, or is stale.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn kept_fact(&self, key: &FactsKey, variant: usize, fact: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let sql = "select record from facts where run_id = $1 and profile = $2 and version = $3 and trials = $4
             and variant = $5 and fact = $6";
        let key = values![key.run, &key.profile, key.version, key.trials, variant, fact];
        self.database.first(sql, key, |row| row.get(0))
    }

    /// The names of what is kept under a key, each with its variant.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn kept_names(&self, key: &FactsKey) -> Result<HashSet<(usize, String)>, StoreError> {
        let sql =
            "select variant, fact from facts where run_id = $1 and profile = $2 and version = $3 and trials = $4";
        let key = values![key.run, &key.profile, key.version, key.trials];
        let rows = self.database.rows(sql, key, |row| Ok((row.get::<i64>(0)? as usize, row.get::<String>(1)?)))?;
        Ok(rows.into_iter().collect())
    }

    /// Keeps what the clips of a corpus share.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_sheet(&self, corpus_checksum: &str, version: u32, record: &[u8]) -> Result<(), StoreError> {
        let sql = "insert into sheets (corpus_checksum, version, record) values ($1, $2, $3)
             on conflict (corpus_checksum) do update set version = excluded.version, record = excluded.record";
        self.database.execute(sql, values![corpus_checksum, version, record])?;
        Ok(())
    }

    /// What was kept of the clips of a corpus; none where nothing was, or it is stale.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn kept_sheet(&self, corpus_checksum: &str, version: u32) -> Result<Option<Vec<u8>>, StoreError> {
        let sql = "select record from sheets where corpus_checksum = $1 and version = $2";
        self.database.first(sql, values![corpus_checksum, version], |row| row.get(0))
    }
}
