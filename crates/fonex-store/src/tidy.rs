//! Looking after what is kept: other labels, runs that go, sound that nothing refers to.

use std::collections::HashSet;

use rusqlite::params;

use crate::{Store, StoreError};

impl Store {
    /// Gives a run another label, or none.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn relabel(&self, run: i64, label: Option<&str>) -> Result<(), StoreError> {
        self.connection().execute("update runs set label = $1 where id = $2", params![label, run])?;
        Ok(())
    }

    /// Deletes runs with their trials and facts, and the clips of corpora that no other run has. Sound files are left to
    /// [`Self::unused_audio`].
    ///
    /// # Errors
    /// When the store cannot be written; then nothing is deleted.
    pub fn delete_runs(&self, runs: &[i64]) -> Result<(), StoreError> {
        let transaction = self.connection().unchecked_transaction()?;
        for run in runs {
            for table in ["trials", "facts"] {
                transaction.execute(&format!("delete from {table} where run_id = $1"), [run])?;
            }
            transaction.execute("delete from runs where id = $1", [run])?;
        }
        for table in ["clips", "sheets"] {
            let sql = format!("delete from {table} where corpus_checksum not in (select corpus_checksum from runs)");
            transaction.execute(&sql, [])?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// Sound files to which no trial refers, but for the trials of `without`: their names and sizes in bytes.
    ///
    /// # Errors
    /// When the store or its folder cannot be read.
    pub fn unused_audio(&self, without: &[i64]) -> Result<Vec<(String, u64)>, StoreError> {
        let mut used: HashSet<String> = HashSet::new();
        let mut select = self
            .connection()
            .prepare("select distinct run_id, audio_file from trials where audio_file is not null")?;
        let mut rows = select.query([])?;
        while let Some(row) = rows.next()? {
            if !without.contains(&row.get::<_, i64>(0)?) {
                used.insert(row.get(1)?);
            }
        }
        let files = self.audio_files().list()?;
        Ok(files.into_iter().filter(|(name, _)| !used.contains(name)).collect())
    }
}
