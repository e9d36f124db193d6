//! The embedded store: SQLite in write-ahead mode.

use std::collections::HashSet;
use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};
use std::time::Duration;

use fonex_core::cost::Usage;
use fonex_core::{Clip, Outcome};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::schema::migrate;
use crate::{AudioFiles, LeftOut, Machine, NewRun, Run, RunState, TrialKey, TrialRecord, Variant};

/// Why the store could not do what was asked.
#[derive(Debug, Error)]
pub enum StoreError {
    /// The database refused.
    #[error("the store refused: {0}")]
    Database(#[from] rusqlite::Error),
    /// A file beside the database could not be used.
    #[error("the store's folder cannot be used: {0}")]
    Io(#[from] std::io::Error),
    /// A stored record is not what this version writes.
    #[error("a stored record cannot be read: {0}")]
    Record(#[from] serde_json::Error),
    /// A newer program wrote the store.
    #[error("the store has version {found}, and this program knows versions up to {known}; use a newer Fonex")]
    Newer {
        /// Version of the store.
        found: u32,
        /// Newest version known.
        known: u32,
    },
    /// Another process executes this run right now.
    #[error("run {0} is being executed by another process; wait for it, or stop it first")]
    Busy(i64),
}

/// Which run is meant: a number, `last`, or a label.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RunRef {
    /// The newest run.
    Last,
    /// By number.
    Number(i64),
    /// The newest run with this label.
    Label(String),
}

impl RunRef {
    /// Reads what a person typed.
    #[must_use]
    pub fn parse(typed: &str) -> Self {
        match typed {
            "last" => Self::Last,
            _ => typed.parse().map_or_else(|_| Self::Label(typed.to_owned()), Self::Number),
        }
    }
}

/// An open store.
///
/// SQL parameters are numbered in the order in which they first stand in the text: SQLite binds `$1` by appearance.
pub struct Store {
    connection: Connection,
    folder: PathBuf,
}

/// What a run's row holds beside its columns.
#[derive(Serialize, Deserialize)]
struct RunRest {
    seed: u64,
    fonex_version: String,
    text_profile: fonex_core::text::TextProfile,
    corpus_path: String,
    bench_checksum: String,
    overrides: Vec<String>,
    machine: Machine,
    planned: u64,
    variants: Vec<Variant>,
    left_out: Vec<LeftOut>,
}

/// Keeps other processes from executing a run; ends with the process, however that ends.
pub struct RunLock(#[expect(dead_code, reason = "the lock lives as long as the open file")] File);

const RUN_COLUMNS: &str = "id, label, plan, state, started_at, finished_at, corpus_checksum, record";
const TRIAL_COLUMNS: &str = "variant, clip_id, repeat, warm_up, outcome, detail, started_ms, took_ms, audio_s, cpu_s, \
                             peak_memory_kib, heard, audio_file, measures, prepared, first_ms, replied, traffic, used";

impl Store {
    /// Opens the store in a folder, making it if need be and bringing it up to date.
    ///
    /// # Errors
    /// When the folder cannot be written, the file is no store, or a newer program wrote it.
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        fs::create_dir_all(folder)?;
        let mut connection = Connection::open(folder.join("runs.db"))?;
        connection.busy_timeout(Duration::from_secs(20))?;
        connection.pragma_update(None, "journal_mode", "wal")?;
        connection.pragma_update(None, "synchronous", "normal")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        migrate(&mut connection)?;
        Ok(Self { connection, folder: folder.to_owned() })
    }

    pub(crate) const fn connection(&self) -> &Connection {
        &self.connection
    }

    pub(crate) const fn connection_mut(&mut self) -> &mut Connection {
        &mut self.connection
    }

    /// The store's audio files.
    #[must_use]
    pub fn audio_files(&self) -> AudioFiles {
        AudioFiles::new(&self.folder)
    }

    /// A folder for the temporary files of a run, emptied of what a killed execution left.
    ///
    /// # Errors
    /// When it cannot be emptied or made.
    pub fn scratch(&self, run: i64) -> Result<PathBuf, StoreError> {
        let scratch = self.folder.join(format!("scratch-{run}"));
        if scratch.exists() {
            fs::remove_dir_all(&scratch)?;
        }
        fs::create_dir_all(&scratch)?;
        Ok(scratch)
    }

    /// Takes a run for this process alone.
    ///
    /// # Errors
    /// [`StoreError::Busy`] when another process has it.
    pub fn lock(&self, run: i64) -> Result<RunLock, StoreError> {
        let file = File::create(self.folder.join(format!("run-{run}.lock")))?;
        match file.try_lock() {
            Ok(()) => Ok(RunLock(file)),
            Err(TryLockError::WouldBlock) => Err(StoreError::Busy(run)),
            Err(TryLockError::Error(error)) => Err(error.into()),
        }
    }

    /// Notes what the engines of a run said their versions are, one entry a variant.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn set_versions(&self, run: i64, versions: &[Option<String>]) -> Result<(), StoreError> {
        let sql = "select record from runs where id = $1";
        let record: String = self.connection.query_row(sql, [run], |row| row.get(0))?;
        let mut rest: RunRest = serde_json::from_str(&record)?;
        for (variant, version) in rest.variants.iter_mut().zip(versions) {
            variant.engine_version.clone_from(version);
        }
        let record = serde_json::to_string(&rest)?;
        self.connection.execute("update runs set record = $1 where id = $2", params![record, run])?;
        Ok(())
    }

    /// Notes how busy the machine was while a run went on.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn set_busy(&self, run: i64, busy: crate::Busy) -> Result<(), StoreError> {
        let sql = "select record from runs where id = $1";
        let record: String = self.connection.query_row(sql, [run], |row| row.get(0))?;
        let mut rest: RunRest = serde_json::from_str(&record)?;
        rest.machine.during = Some(busy);
        let record = serde_json::to_string(&rest)?;
        self.connection.execute("update runs set record = $1 where id = $2", params![record, run])?;
        Ok(())
    }

    /// Removes what a finished execution no longer needs.
    pub fn unlock(&self, run: i64, lock: RunLock) {
        drop(lock);
        // Leftovers of these are harmless: the next execution clears them.
        drop(fs::remove_file(self.folder.join(format!("run-{run}.lock"))));
        drop(fs::remove_dir_all(self.folder.join(format!("scratch-{run}"))));
    }

    /// Records a new run with its labels, all or nothing. Gives its number.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn create_run(&mut self, run: &NewRun) -> Result<i64, StoreError> {
        let rest = RunRest {
            seed: run.seed,
            fonex_version: run.fonex_version.clone(),
            text_profile: run.text_profile.clone(),
            corpus_path: run.corpus_path.clone(),
            bench_checksum: run.bench_checksum.clone(),
            overrides: run.overrides.clone(),
            machine: run.machine.clone(),
            planned: run.planned,
            variants: run.variants.clone(),
            left_out: run.left_out.clone(),
        };
        let transaction = self.connection.transaction()?;
        transaction.execute(
            "insert into runs (label, plan, state, started_at, fingerprint, corpus_checksum, record)
             values ($1, $2, 'unfinished', $3, $4, $5, $6)",
            params![
                run.label,
                run.plan,
                run.started_at,
                run.fingerprint,
                run.corpus_checksum,
                serde_json::to_string(&rest)?
            ],
        )?;
        let id = transaction.last_insert_rowid();
        {
            let mut insert = transaction.prepare(
                "insert into clips (corpus_checksum, ordinal, clip_id, record) values ($1, $2, $3, $4)
                 on conflict do nothing",
            )?;
            for (ordinal, clip) in (0_i64..).zip(&run.clips) {
                insert.execute(params![run.corpus_checksum, ordinal, clip.id, serde_json::to_string(clip)?])?;
            }
        }
        transaction.commit()?;
        Ok(id)
    }

    /// The newest unfinished run of the same plan on the same material, if there is one.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn unfinished(&self, fingerprint: &str, label: Option<&str>) -> Result<Option<i64>, StoreError> {
        let found = self.connection.query_row(
            "select id from runs where state = 'unfinished' and fingerprint = $1 and label is $2
             order by id desc limit 1",
            params![fingerprint, label],
            |row| row.get(0),
        );
        Ok(found.optional()?)
    }

    /// Writes one trial in a transaction of its own. A trial that is there already stays as it is; gives whether this
    /// one was new.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn save_trial(&self, run: i64, trial: &TrialRecord) -> Result<bool, StoreError> {
        let mut insert = self.connection.prepare_cached(&format!(
            "insert into trials (run_id, {TRIAL_COLUMNS})
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20) on conflict do nothing"
        ))?;
        let added = insert.execute(params![
            run,
            trial.key.variant as i64,
            trial.key.clip_id,
            trial.key.repeat,
            trial.key.warm_up,
            trial.outcome.as_str(),
            trial.detail,
            trial.started_ms,
            trial.took_ms,
            trial.audio_s,
            trial.cpu_s,
            trial.peak_memory_kib.map(|kib| kib as i64),
            trial.heard.as_ref().map(serde_json::to_string).transpose()?,
            trial.audio_file,
            trial.measures.as_ref().map(serde_json::to_string).transpose()?,
            trial.prepared,
            trial.first_ms,
            trial.replied,
            if trial.traffic.is_empty() { None } else { Some(serde_json::to_string(&trial.traffic)?) },
            trial.used.as_ref().map(serde_json::to_string).transpose()?,
        ])?;
        Ok(added == 1)
    }

    /// Marks a run as finished.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn finish_run(&self, run: i64, finished_at: &str) -> Result<(), StoreError> {
        self.connection.execute(
            "update runs set state = 'finished', finished_at = $1 where id = $2",
            params![finished_at, run],
        )?;
        Ok(())
    }

    /// Every run, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn runs(&self) -> Result<Vec<Run>, StoreError> {
        let mut select = self.connection.prepare(&format!("select {RUN_COLUMNS} from runs order by id"))?;
        let rows = select.query_and_then([], read_run)?;
        rows.collect()
    }

    /// One run.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn run(&self, which: &RunRef) -> Result<Option<Run>, StoreError> {
        let select = |condition: &str| format!("select {RUN_COLUMNS} from runs {condition} order by id desc limit 1");
        let (sql, value) = match which {
            RunRef::Last => (select("where $1 is null"), None),
            RunRef::Number(id) => (select("where id = cast($1 as bigint)"), Some(id.to_string())),
            RunRef::Label(label) => (select("where label = $1"), Some(label.clone())),
        };
        let mut select = self.connection.prepare(&sql)?;
        let mut rows = select.query_and_then([value], read_run)?;
        rows.next().transpose()
    }

    /// The labels of a run's corpus, in corpus order.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clips(&self, corpus_checksum: &str) -> Result<Vec<Clip>, StoreError> {
        let mut select =
            self.connection.prepare("select record from clips where corpus_checksum = $1 order by ordinal")?;
        let rows = select.query_and_then([corpus_checksum], |row| {
            Ok(serde_json::from_str(row.get_ref(0)?.as_str().map_err(rusqlite::Error::from)?)?)
        })?;
        rows.collect()
    }

    /// Every trial of a run, by variant, clip and repeat.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials(&self, run: i64) -> Result<Vec<TrialRecord>, StoreError> {
        let mut select = self.connection.prepare(&format!(
            "select {TRIAL_COLUMNS} from trials where run_id = $1 order by variant, warm_up desc, repeat, clip_id"
        ))?;
        let rows = select.query_and_then([run], read_trial)?;
        rows.collect()
    }

    /// Calls `with` for every trial of a run, in the order they were stored.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn each_trial(&self, run: i64, mut with: impl FnMut(TrialRecord)) -> Result<(), StoreError> {
        let sql = format!("select {TRIAL_COLUMNS} from trials where run_id = $1 order by rowid");
        let mut select = self.connection.prepare(&sql)?;
        let mut rows = select.query([run])?;
        while let Some(row) = rows.next()? {
            with(read_trial(row)?);
        }
        Ok(())
    }

    /// The timed trials of one clip, by variant and repeat.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials_of_clip(&self, run: i64, variant: usize, clip_id: &str) -> Result<Vec<TrialRecord>, StoreError> {
        // All of the primary key's columns before the clip are given, so that nothing is searched.
        let repeats: i64 = self.connection.query_row(
            "select coalesce(max(repeat), -1) from trials where run_id = $1 and variant = $2 and warm_up = 0",
            params![run, variant as i64],
            |row| row.get(0),
        )?;
        let mut select = self.connection.prepare_cached(&format!(
            "select {TRIAL_COLUMNS} from trials
             where run_id = $1 and variant = $2 and warm_up = 0 and repeat = $3 and clip_id = $4"
        ))?;
        let mut found = Vec::new();
        for repeat in 0..=repeats {
            let rows = select.query_and_then(params![run, variant as i64, repeat, clip_id], read_trial)?;
            for row in rows {
                found.push(row?);
            }
        }
        Ok(found)
    }

    /// The labels at some places of a run's corpus.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clip_at(&self, corpus_checksum: &str, ordinal: u32) -> Result<Option<Clip>, StoreError> {
        let sql = "select record from clips where corpus_checksum = $1 and ordinal = $2";
        let record: Option<String> =
            self.connection.query_row(sql, params![corpus_checksum, ordinal], |row| row.get(0)).optional()?;
        Ok(record.as_deref().map(serde_json::from_str).transpose()?)
    }

    /// The trials of a run that have an outcome.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn done(&self, run: i64) -> Result<HashSet<TrialKey>, StoreError> {
        let mut select =
            self.connection.prepare("select variant, clip_id, repeat, warm_up from trials where run_id = $1")?;
        let rows = select.query_and_then([run], |row| Ok(read_key(row)?))?;
        rows.collect()
    }

    /// What a run has used so far, by the place of its variants.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn used(&self, run: i64) -> Result<Vec<(usize, Usage)>, StoreError> {
        let mut select =
            self.connection.prepare("select variant, used from trials where run_id = $1 and used is not null")?;
        let rows = select.query_and_then([run], |row| {
            let used = serde_json::from_str(row.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?)?;
            Ok((row.get::<_, i64>(0)? as usize, used))
        })?;
        rows.collect()
    }

    /// Trials of a run by outcome, warm-up trials left out.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn outcomes(&self, run: i64) -> Result<Vec<(Outcome, u64)>, StoreError> {
        let mut select = self
            .connection
            .prepare("select outcome, count(*) from trials where run_id = $1 and warm_up = 0 group by outcome")?;
        let rows = select.query_and_then([run], |row| Ok((read_outcome(row, 0)?, row.get::<_, i64>(1)? as u64)))?;
        rows.collect()
    }
}

fn read_run(row: &Row<'_>) -> Result<Run, StoreError> {
    let rest: RunRest = serde_json::from_str(row.get_ref(7)?.as_str().map_err(rusqlite::Error::from)?)?;
    let state: String = row.get(3)?;
    Ok(Run {
        id: row.get(0)?,
        label: row.get(1)?,
        plan: row.get(2)?,
        state: if state == "finished" { RunState::Finished } else { RunState::Unfinished },
        started_at: row.get(4)?,
        finished_at: row.get(5)?,
        corpus_checksum: row.get(6)?,
        seed: rest.seed,
        fonex_version: rest.fonex_version,
        text_profile: rest.text_profile,
        corpus_path: rest.corpus_path,
        bench_checksum: rest.bench_checksum,
        overrides: rest.overrides,
        machine: rest.machine,
        planned: rest.planned,
        variants: rest.variants,
        left_out: rest.left_out,
    })
}

fn read_key(row: &Row<'_>) -> rusqlite::Result<TrialKey> {
    Ok(TrialKey {
        variant: row.get::<_, i64>(0)? as usize,
        clip_id: row.get(1)?,
        repeat: row.get(2)?,
        warm_up: row.get(3)?,
    })
}

fn read_outcome(row: &Row<'_>, column: usize) -> rusqlite::Result<Outcome> {
    let word: String = row.get(column)?;
    word.parse().map_err(|error| {
        rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(error))
    })
}

fn read_trial(row: &Row<'_>) -> Result<TrialRecord, StoreError> {
    let heard: Option<String> = row.get(11)?;
    let measures: Option<String> = row.get(13)?;
    let traffic: Option<String> = row.get(17)?;
    let used: Option<String> = row.get(18)?;
    Ok(TrialRecord {
        key: read_key(row)?,
        outcome: read_outcome(row, 4)?,
        detail: row.get(5)?,
        started_ms: row.get(6)?,
        took_ms: row.get(7)?,
        audio_s: row.get(8)?,
        cpu_s: row.get(9)?,
        peak_memory_kib: row.get::<_, Option<i64>>(10)?.map(|kib| kib as u64),
        heard: heard.as_deref().map(serde_json::from_str).transpose()?,
        audio_file: row.get(12)?,
        measures: measures.as_deref().map(serde_json::from_str).transpose()?,
        prepared: row.get(14)?,
        first_ms: row.get(15)?,
        replied: row.get(16)?,
        traffic: traffic.as_deref().map(serde_json::from_str).transpose()?.unwrap_or_default(),
        used: used.as_deref().map(serde_json::from_str).transpose()?,
    })
}
