//! What analysis keeps beside the trials, so that it need not be computed again: facts of a run under one text profile, and
//! what the clips of a corpus share. The store does not know what is in them.

use std::path::Path;

use rusqlite::{OptionalExtension, params};

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

const INSERT: &str = "insert or replace into facts (run_id, profile, version, trials, variant, fact, record)
     values ($1, $2, $3, $4, $5, $6, $7)";

/// What [`INSERT`] takes.
macro_rules! row {
    ($key:expr, $fact:expr) => {
        params![
            $key.run,
            $key.profile,
            $key.version,
            $key.trials as i64,
            $fact.variant as i64,
            $fact.fact,
            $fact.record
        ]
    };
}

/// Facts that are being kept: under a name of their own until they are whole, so that nobody waits for a lock meanwhile.
pub struct KeepingFacts<'s> {
    key: FactsKey,
    /// The same under the name of what is being built.
    building: FactsKey,
    store: &'s Store,
}

/// Before the profile of facts that are being built; the number of the process stands behind.
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
        let transaction = self.store.connection().unchecked_transaction()?;
        let (run, profile) = (self.key.run, &self.key.profile);
        transaction.execute("delete from facts where run_id = $1 and profile = $2", params![run, profile])?;
        let sql = "update facts set profile = $1 where run_id = $2 and profile = $3";
        transaction.execute(sql, params![profile, run, self.building.profile])?;
        Ok(transaction.commit()?)
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
        Ok(self.connection().query_row(sql, [run], |row| row.get::<_, i64>(0))? as u64)
    }

    /// Begins to keep facts of a run under one text profile. Nothing is locked until they are whole.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_facts(&self, key: FactsKey) -> Result<KeepingFacts<'_>, StoreError> {
        // What a killed process left behind goes first.
        let mut select =
            self.connection().prepare("select distinct profile from facts where run_id = $1 and profile like $2")?;
        let left: Vec<String> = select
            .query_map(params![key.run, format!("{BUILDING}%")], |row| row.get(0))?
            .collect::<Result<_, _>>()?;
        for profile in left {
            let process = profile[BUILDING.len()..].split('/').next().unwrap_or_default();
            if process == std::process::id().to_string() || !Path::new("/proc").join(process).exists() {
                self.forget_facts(key.run, &profile)?;
            }
        }
        let profile = format!("{BUILDING}{}/{}", std::process::id(), key.profile);
        // A store that may only be read shows it here.
        self.forget_facts(key.run, &profile)?;
        Ok(KeepingFacts { building: FactsKey { profile, ..key.clone() }, key, store: self })
    }

    fn forget_facts(&self, run: i64, profile: &str) -> Result<(), StoreError> {
        self.connection().execute("delete from facts where run_id = $1 and profile = $2", params![run, profile])?;
        Ok(())
    }

    /// Keeps one more fact of a run under a text profile.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_fact(&self, key: &FactsKey, fact: &KeptFact) -> Result<(), StoreError> {
        let mut insert = self.connection().prepare_cached(INSERT)?;
        insert.execute(row!(key, fact))?;
        Ok(())
    }

    /// One column of facts; none where it was not kept, or is stale.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn kept_fact(&self, key: &FactsKey, variant: usize, fact: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let mut select = self.connection().prepare_cached(
            "select record from facts where run_id = $1 and profile = $2 and version = $3 and trials = $4
             and variant = $5 and fact = $6",
        )?;
        let (trials, variant) = (key.trials as i64, variant as i64);
        let found =
            select.query_row(params![key.run, key.profile, key.version, trials, variant, fact], |row| row.get(0));
        Ok(found.optional()?)
    }

    /// Keeps what the clips of a corpus share.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_sheet(&self, corpus_checksum: &str, version: u32, record: &[u8]) -> Result<(), StoreError> {
        let sql = "insert or replace into sheets (corpus_checksum, version, record) values ($1, $2, $3)";
        self.connection().execute(sql, params![corpus_checksum, version, record])?;
        Ok(())
    }

    /// What was kept of the clips of a corpus; none where nothing was, or it is stale.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn kept_sheet(&self, corpus_checksum: &str, version: u32) -> Result<Option<Vec<u8>>, StoreError> {
        let sql = "select record from sheets where corpus_checksum = $1 and version = $2";
        let found = self.connection().query_row(sql, params![corpus_checksum, version], |row| row.get(0));
        Ok(found.optional()?)
    }
}
