//! What analysis keeps beside the trials, so that it need not be computed again: facts of a run under one text profile, and
//! what the clips of a corpus share. The store does not know what is in them.

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

impl Store {
    /// Trials of a run that have an outcome, warm-up included.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trial_count(&self, run: i64) -> Result<u64, StoreError> {
        let sql = "select count(*) from trials where run_id = $1";
        Ok(self.connection().query_row(sql, [run], |row| row.get::<_, i64>(0))? as u64)
    }

    /// Keeps the facts of a run under one text profile in the place of those kept before, all or nothing.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_facts(&mut self, key: &FactsKey, facts: &[KeptFact]) -> Result<(), StoreError> {
        let transaction = self.connection_mut().transaction()?;
        transaction.execute("delete from facts where run_id = $1 and profile = $2", params![key.run, key.profile])?;
        {
            let mut insert = transaction.prepare(
                "insert into facts (run_id, profile, version, trials, variant, fact, record)
                 values ($1, $2, $3, $4, $5, $6, $7)",
            )?;
            for fact in facts {
                let (trials, variant) = (key.trials as i64, fact.variant as i64);
                insert.execute(params![
                    key.run,
                    key.profile,
                    key.version,
                    trials,
                    variant,
                    fact.fact,
                    fact.record
                ])?;
            }
        }
        transaction.commit()?;
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
