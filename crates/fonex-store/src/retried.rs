//! Keeps the earlier records of failed trials that are repeated.

use std::collections::HashSet;

use crate::database::values;
use crate::{Store, StoreError, TrialKey, TrialRecord};

impl Store {
    /// Opens a run again for some of its trials: they move to its history, and the run is unfinished until they are made
    /// again. All or nothing. What was computed from the run is forgotten. Returns how many trials moved.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn reopen(&self, run: i64, again: &HashSet<TrialKey>) -> Result<u64, StoreError> {
        let transaction = self.database.begin()?;
        let mut moved = 0;
        for key in again {
            let Some(trial) = self.trial(run, key)? else { continue };
            self.keep_retried(run, &trial)?;
            self.database.execute(
                "delete from trials where run_id = $1 and variant = $2 and warm_up = $3 and repeat = $4 and clip_id = $5",
                values![run, key.variant, key.warm_up, key.repeat, &key.clip_id],
            )?;
            moved += 1;
        }
        if moved > 0 {
            self.database.execute("delete from facts where run_id = $1", values![run])?;
            let sql = "update runs set state = 'unfinished', finished_at = null, listed = null where id = $1";
            self.database.execute(sql, values![run])?;
        }
        transaction.commit()?;
        Ok(moved)
    }

    /// Adds a trial to a run's history.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn keep_retried(&self, run: i64, trial: &TrialRecord) -> Result<(), StoreError> {
        let key = &trial.key;
        let sql = "select count(*) from retried where run_id = $1 and variant = $2 and clip_id = $3 and repeat = $4";
        let of = values![run, key.variant, &key.clip_id, key.repeat];
        let before: u64 = self.database.only(sql, of, |row| row.get(0))?;
        self.database.execute(
            "insert into retried (run_id, variant, clip_id, repeat, attempt, record) values ($1, $2, $3, $4, $5, $6)
             on conflict do nothing",
            values![run, key.variant, &key.clip_id, key.repeat, before + 1, serde_json::to_string(trial)?],
        )?;
        Ok(())
    }

    /// Trials of a run that failed and were made again, by variant, clip and repeat, the earliest of each first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn retried(&self, run: i64) -> Result<Vec<TrialRecord>, StoreError> {
        let sql = "select record from retried where run_id = $1 order by variant, clip_id, repeat, attempt";
        let records = self.database.rows(sql, values![run], |row| row.get::<String>(0))?;
        records.iter().map(|record| Ok(serde_json::from_str(record)?)).collect()
    }
}
