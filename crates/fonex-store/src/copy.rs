//! Runs from one store to another: each in one transaction, and counted and checksummed on both sides before it lasts.

use std::collections::BTreeSet;
use std::fs;

use sha2::{Digest, Sha256};

use crate::database::{Value, values};
use crate::{RunRef, Store, StoreError};

/// Rows that are read and written in one go.
const ROUND: usize = 512;

/// What became of a run that was to be copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CopiedRun {
    /// It is there now, under this number, with this many trials and sound files.
    Copied {
        /// Its number there.
        run: i64,
        /// Its trials.
        trials: u64,
        /// Sound files that came with it.
        sounds: u64,
        /// Sound files to which it refers, and which are lost.
        lost: u64,
    },
    /// It was there already, under this number, with the same trials.
    There {
        /// Its number there.
        run: i64,
    },
    /// It is there under this number with other trials, and was left as it is.
    Differs {
        /// Its number there.
        run: i64,
        /// Trials here.
        here: u64,
        /// Trials there.
        there: u64,
    },
}

/// A table of which rows are copied: its columns, and by which they are found and in which order read.
struct Rows {
    table: &'static str,
    columns: &'static [&'static str],
    /// The column that tells whose rows they are.
    of: &'static str,
    /// The column by which they are paged, a whole number; none where there are few.
    order: Option<&'static str>,
    condition: &'static str,
}

const CLIPS: Rows = Rows {
    table: "clips",
    columns: &["corpus_checksum", "ordinal", "clip_id", "record"],
    of: "corpus_checksum",
    order: Some("ordinal"),
    condition: "",
};
const TRIALS: Rows = Rows {
    table: "trials",
    columns: &[
        "run_id",
        "variant",
        "clip_id",
        "repeat",
        "warm_up",
        "outcome",
        "detail",
        "started_ms",
        "took_ms",
        "audio_s",
        "cpu_s",
        "peak_memory_kib",
        "heard",
        "audio_file",
        "measures",
        "prepared",
        "first_ms",
        "replied",
        "traffic",
        "used",
        "speech",
        "made_by",
    ],
    of: "run_id",
    order: Some("rowid"),
    condition: "",
};
const RETRIED: Rows = Rows {
    table: "retried",
    columns: &["run_id", "variant", "clip_id", "repeat", "attempt", "record"],
    of: "run_id",
    order: None,
    condition: "order by variant, clip_id, repeat, attempt",
};
const FACTS: Rows = Rows {
    table: "facts",
    columns: &["run_id", "profile", "version", "trials", "variant", "fact", "record"],
    of: "run_id",
    order: None,
    condition: "and profile not like 'building/%'",
};
const SHEETS: Rows = Rows {
    table: "sheets",
    columns: &["corpus_checksum", "version", "record"],
    of: "corpus_checksum",
    order: None,
    condition: "",
};

/// Columns of a run that are copied as they are.
const RUN: &str = "label, plan, state, started_at, finished_at, fingerprint, corpus_checksum, record, listed";

impl Rows {
    /// Calls `with` for rounds of rows, in order.
    fn each_round(
        &self,
        store: &Store,
        of: &Value<'_>,
        mut with: impl FnMut(Vec<Vec<Value<'static>>>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let (table, columns, of_column, condition) = (self.table, self.columns.join(", "), self.of, self.condition);
        let width = self.columns.len();
        let read = |row: &crate::database::Row<'_>| {
            (0..width).map(|column| row.value(column)).collect::<Result<Vec<_>, _>>()
        };
        let Some(order) = self.order else {
            let sql = format!("select {columns} from {table} where {of_column} = $1 {condition}");
            return with(store.database.rows(&sql, std::slice::from_ref(of), read)?);
        };
        // Labels lie in the order of their places; trials of several runs lie among each other.
        let (picks, mut place, last) = match of {
            Value::Integer(run) => match store.places(*run)? {
                Some((first, last)) => (store.database.picks(of_column), first - 1, last),
                None => return Ok(()),
            },
            _ => (of_column.to_owned(), i64::MIN, i64::MAX),
        };
        let sql = format!(
            "select {columns}, {order} from {table} where {picks} = $1 and {order} > $2 and {order} <= $3 {condition} order by {order} limit $4"
        );
        loop {
            let values = [of.clone(), Value::from(place), Value::from(last), Value::from(ROUND)];
            let rows = store.database.rows(&sql, &values, |row| {
                place = row.get(width)?;
                read(row)
            })?;
            let ends = rows.len() < ROUND;
            if !rows.is_empty() {
                with(rows)?;
            }
            if ends {
                return Ok(());
            }
        }
    }

    /// Copies the rows of one owner, which may have another number there.
    fn copy(&self, from: &Store, of: &Value<'_>, to: &Store, as_of: &Value<'static>) -> Result<u64, StoreError> {
        let into = format!("{} ({})", self.table, self.columns.join(", "));
        let own = self.columns.iter().position(|column| *column == self.of).unwrap_or_default();
        let mut copied = 0;
        self.each_round(from, of, |mut rows| {
            copied += rows.len() as u64;
            rows.iter_mut().for_each(|row| row[own] = as_of.clone());
            to.database.insert_all(&into, &rows)
        })?;
        Ok(copied)
    }

    /// A checksum of the rows of one owner, whatever its number.
    fn checksum(&self, store: &Store, of: &Value<'_>) -> Result<(u64, String), StoreError> {
        let own = self.columns.iter().position(|column| *column == self.of).unwrap_or_default();
        let (mut sum, mut count) = (Sha256::new(), 0);
        self.each_round(store, of, |rows| {
            count += rows.len() as u64;
            for value in rows.iter().flat_map(|row| row.iter().enumerate()).filter(|(column, _)| *column != own) {
                add(&mut sum, value.1);
            }
            Ok(())
        })?;
        Ok((count, hexadecimal(&sum.finalize())))
    }
}

fn add(sum: &mut Sha256, value: &Value<'_>) {
    let mut part = |kind: u8, bytes: &[u8]| {
        sum.update([kind]);
        sum.update((bytes.len() as u64).to_le_bytes());
        sum.update(bytes);
    };
    match value {
        Value::Null => part(0, &[]),
        Value::Integer(number) => part(1, &number.to_le_bytes()),
        Value::Real(number) => part(2, &number.to_le_bytes()),
        Value::Text(text) => part(3, text.as_bytes()),
        Value::Bytes(bytes) => part(4, bytes),
    }
}

pub(crate) fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

impl Store {
    /// Copies a run with its labels, facts and sound to another store, all or nothing. A run that is there already with the same trials
    /// is left, so that a copy that was broken off goes on where it was; one that has grown since is completed.
    ///
    /// # Errors
    /// When either store fails, or what arrived is not what was sent; then nothing is changed.
    pub fn copy_run(&self, run: i64, to: &Self) -> Result<CopiedRun, StoreError> {
        let sql = format!("select {RUN} from runs where id = $1");
        let columns = self
            .database
            .only(&sql, values![run], |row| (0..9).map(|column| row.value(column)).collect::<Result<Vec<_>, _>>())?;
        let [_, plan, state, started_at, finished_at, fingerprint, corpus, _, listed] = &columns[..] else {
            return Err(StoreError::NoRow);
        };
        let sql = "select id from runs where started_at = $1 and plan = $2 and fingerprint = $3 and corpus_checksum = $4 order by id limit 1";
        let same = [started_at.clone(), plan.clone(), fingerprint.clone(), corpus.clone()];
        let known: Option<i64> = to.database.first(sql, &same, |row| row.get(0))?;
        let own = Value::from(run);
        let (here, sum) = TRIALS.checksum(self, &own)?;
        if let Some(known) = known {
            let (there, sum_there) = TRIALS.checksum(to, &Value::from(known))?;
            if sum == sum_there {
                // Notes may have been added since.
                if let Some(own) = self.run(&RunRef::Number(run))?.filter(|own| !own.notes.is_empty()) {
                    to.add_notes(known, &own.notes)?;
                }
                return Ok(CopiedRun::There { run: known });
            }
            let grown = there < here
                && to
                    .database
                    .only("select state from runs where id = $1", values![known], |row| row.get::<String>(0))?
                    != "finished";
            if !grown {
                return Ok(CopiedRun::Differs { run: known, here, there });
            }
        }
        // Nobody goes on with a run that is being completed from elsewhere.
        let _held = known.map(|known| to.lock(known)).transpose()?;
        let transaction = to.database.begin()?;
        let id = match known {
            None => to.inserted(
                &format!("insert into runs ({RUN}) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)"),
                &columns,
            )?,
            Some(known) => {
                let sql = "update runs set state = $1, finished_at = $2, listed = $3, record = $4 where id = $5";
                let values =
                    [state.clone(), finished_at.clone(), listed.clone(), columns[7].clone(), Value::from(known)];
                to.database.execute(sql, &values)?;
                known
            }
        };
        CLIPS.copy(self, corpus, to, corpus)?;
        SHEETS.copy(self, corpus, to, corpus)?;
        let (sounds, lost) = self.copy_sound(run, to)?;
        TRIALS.copy(self, &own, to, &Value::from(id))?;
        RETRIED.copy(self, &own, to, &Value::from(id))?;
        FACTS.copy(self, &own, to, &Value::from(id))?;
        let arrived = (TRIALS.checksum(to, &Value::from(id))?, CLIPS.checksum(to, corpus)?);
        if arrived != ((here, sum), CLIPS.checksum(self, corpus)?) {
            return Err(StoreError::Arrived { run });
        }
        transaction.commit()?;
        Ok(CopiedRun::Copied { run: id, trials: here, sounds, lost })
    }

    /// Copies the sound to which a run refers. Gives how many files, and how many are lost.
    fn copy_sound(&self, run: i64, to: &Self) -> Result<(u64, u64), StoreError> {
        let sql = "select distinct audio_file from trials where run_id = $1 and audio_file is not null";
        let names: BTreeSet<String> = self.database.rows(sql, values![run], |row| row.get(0))?.into_iter().collect();
        let (from, files, mut sounds, mut lost) = (self.audio_files(), to.audio_files(), 0, 0);
        for name in names {
            let Ok(bytes) = fs::read(from.path(&name)) else {
                lost += 1;
                continue;
            };
            // What is damaged here is not handed on under a name that says otherwise.
            if !name.starts_with(&hexadecimal(&Sha256::digest(&bytes))) {
                lost += 1;
                continue;
            }
            let (checksum, ending) = name.split_once('.').unwrap_or((&name, ""));
            files.keep(checksum, ending, &bytes)?;
            if !to.database.is_file() {
                to.share_audio(&name)?;
            }
            sounds += 1;
        }
        Ok((sounds, lost))
    }

    /// Copies the studies that another store does not have. Gives how many.
    ///
    /// # Errors
    /// When either store fails; then none is copied.
    pub fn copy_studies(&self, to: &Self) -> Result<u64, StoreError> {
        let read = |row: &crate::database::Row<'_>| Ok((row.get::<String>(0)?, row.get::<String>(1)?));
        let sql = "select kind, record from studies order by id";
        let there: BTreeSet<(String, String)> = to.database.rows(sql, &[], read)?.into_iter().collect();
        let transaction = to.database.begin()?;
        let mut copied = 0;
        for study in self.database.rows(sql, &[], read)? {
            if !there.contains(&study) {
                to.inserted("insert into studies (kind, record) values ($1, $2)", values![&study.0, &study.1])?;
                copied += 1;
            }
        }
        transaction.commit()?;
        Ok(copied)
    }
}
