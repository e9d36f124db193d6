//! Trials of a run: written as they end, read in the order that is asked for.

use std::collections::{BTreeSet, HashMap, HashSet};

use fonex_core::Outcome;
use fonex_core::cost::Usage;
use fonex_core::latency::Traffic;
use rusqlite::{Row, params};

use crate::{Store, StoreError, TrialKey, TrialRecord};

const TRIAL_COLUMNS: &str = "variant, clip_id, repeat, warm_up, outcome, detail, started_ms, took_ms, audio_s, cpu_s, \
                             peak_memory_kib, heard, audio_file, measures, prepared, first_ms, replied, traffic, used, speech";
const COLUMNS_OF_TRIAL: usize = 20;

impl Store {
    /// Writes one trial in a transaction of its own. A trial that is there already stays as it is; gives whether this
    /// one was new.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn save_trial(&self, run: i64, trial: &TrialRecord) -> Result<bool, StoreError> {
        let mut insert = self.connection().prepare_cached(&format!(
            "insert into trials (run_id, {TRIAL_COLUMNS})
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21) on conflict do nothing"
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
            trial.speech.as_ref().map(serde_json::to_string).transpose()?,
        ])?;
        Ok(added == 1)
    }

    /// Every trial of a run, by variant, clip and repeat.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials(&self, run: i64) -> Result<Vec<TrialRecord>, StoreError> {
        let mut select = self.connection().prepare(&format!(
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
        let mut select = self.connection().prepare(&sql)?;
        let mut rows = select.query([run])?;
        while let Some(row) = rows.next()? {
            with(read_trial(row)?);
        }
        Ok(())
    }

    /// Calls `with` for rounds of this many trials of a run, in the order they were stored, until it fails.
    ///
    /// # Errors
    /// When the store cannot be read, and what `with` failed of.
    pub fn each_round(
        &self,
        run: i64,
        size: usize,
        mut with: impl FnMut(Vec<StoredTrial>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let sql = format!("select {TRIAL_COLUMNS} from trials where run_id = $1 order by rowid");
        let mut select = self.connection().prepare(&sql)?;
        let mut rows = select.query([run])?;
        let mut round = Vec::with_capacity(size);
        while let Some(row) = rows.next()? {
            round.push(stored_trial(row)?);
            if round.len() == size {
                with(std::mem::replace(&mut round, Vec::with_capacity(size)))?;
            }
        }
        if round.is_empty() { Ok(()) } else { with(round) }
    }

    /// The trials of a run that were stored after a place, at most `most`, each with its place, in the order they were stored.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials_after(&self, run: i64, place: i64, most: usize) -> Result<Vec<(i64, StoredTrial)>, StoreError> {
        let sql = format!(
            "select {TRIAL_COLUMNS}, rowid from trials where run_id = $1 and rowid > $2 order by rowid limit $3"
        );
        let mut select = self.connection().prepare_cached(&sql)?;
        let rows = select.query_and_then(params![run, place, most as i64], |row| {
            Ok((row.get(COLUMNS_OF_TRIAL)?, stored_trial(row)?))
        })?;
        rows.collect()
    }

    /// The timed trials of one clip, by variant and repeat.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials_of_clip(&self, run: i64, variant: usize, clip_id: &str) -> Result<Vec<TrialRecord>, StoreError> {
        let stored = self.stored_trials_of(run, variant, clip_id, self.repeats(run, variant)?)?;
        stored.iter().map(StoredTrial::read).collect()
    }

    /// How often the clips of a variant were asked for, timed.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn repeats(&self, run: i64, variant: usize) -> Result<u32, StoreError> {
        let sql =
            "select coalesce(max(repeat), -1) + 1 from trials where run_id = $1 and variant = $2 and warm_up = 0";
        Ok(self.connection().query_row(sql, params![run, variant as i64], |row| row.get(0))?)
    }

    /// The timed trials of one clip, of this many repeats, as they lie in the store.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn stored_trials_of(
        &self,
        run: i64,
        variant: usize,
        clip_id: &str,
        repeats: u32,
    ) -> Result<Vec<StoredTrial>, StoreError> {
        // All of the primary key's columns before the clip are given, so that nothing is searched.
        let mut select = self.connection().prepare_cached(&format!(
            "select {TRIAL_COLUMNS} from trials
             where run_id = $1 and variant = $2 and warm_up = 0 and repeat = $3 and clip_id = $4"
        ))?;
        let mut found = Vec::new();
        for repeat in 0..repeats {
            let rows = select.query_and_then(params![run, variant as i64, repeat, clip_id], stored_trial)?;
            for row in rows {
                found.push(row?);
            }
        }
        Ok(found)
    }

    /// The trials of a run that have an outcome.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn done(&self, run: i64) -> Result<HashSet<TrialKey>, StoreError> {
        let mut select =
            self.connection().prepare("select variant, clip_id, repeat, warm_up from trials where run_id = $1")?;
        let rows = select.query_and_then([run], |row| Ok(read_key(row)?))?;
        rows.collect()
    }

    /// What some variants of a run have spoken so far.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn spoken(
        &self,
        run: i64,
        variants: impl Iterator<Item = usize>,
    ) -> Result<HashMap<TrialKey, Spoken>, StoreError> {
        let mut select = self.connection().prepare(
            "select variant, clip_id, repeat, warm_up, outcome, audio_file from trials where run_id = $1 and variant = $2",
        )?;
        let mut spoken = HashMap::new();
        for variant in variants.collect::<BTreeSet<usize>>() {
            let mut rows = select.query(params![run, variant as i64])?;
            while let Some(row) = rows.next()? {
                spoken.insert(read_key(row)?, Spoken { outcome: read_outcome(row, 4)?, audio_file: row.get(5)? });
            }
        }
        Ok(spoken)
    }

    /// What a run has used so far, by the place of its variants.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn used(&self, run: i64) -> Result<Vec<(usize, Usage)>, StoreError> {
        let mut select =
            self.connection().prepare("select variant, used from trials where run_id = $1 and used is not null")?;
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
        let mut select = self.connection().prepare_cached(
            "select outcome, count(*) from trials where run_id = $1 and warm_up = 0 group by outcome",
        )?;
        let rows = select.query_and_then([run], |row| Ok((read_outcome(row, 0)?, row.get::<_, i64>(1)? as u64)))?;
        rows.collect()
    }
}

/// How a trial of a voice ended, and the name of the audio it left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spoken {
    /// How it ended.
    pub outcome: Outcome,
    /// What was spoken.
    pub audio_file: Option<String>,
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

/// A trial as its row lies in the store: what is kept as JSON is read later, on any thread.
#[derive(Debug)]
pub struct StoredTrial {
    record: TrialRecord,
    /// Heard, measures, traffic, used, speech.
    texts: [Option<String>; 5],
}

impl StoredTrial {
    /// The id of its clip.
    #[must_use]
    pub fn clip_id(&self) -> &str {
        &self.record.key.clip_id
    }

    /// The trial.
    ///
    /// # Errors
    /// When what is stored is not what this version writes.
    pub fn read(&self) -> Result<TrialRecord, StoreError> {
        fn parsed<T: serde::de::DeserializeOwned>(text: Option<&String>) -> Result<Option<T>, StoreError> {
            Ok(text.map(|text| serde_json::from_str(text)).transpose()?)
        }
        let [heard, measures, traffic, used, speech] = &self.texts;
        Ok(TrialRecord {
            heard: parsed(heard.as_ref())?,
            measures: parsed(measures.as_ref())?,
            traffic: parsed(traffic.as_ref())?.unwrap_or_default(),
            used: parsed(used.as_ref())?,
            speech: parsed(speech.as_ref())?,
            ..self.record.clone()
        })
    }
}

fn read_trial(row: &Row<'_>) -> Result<TrialRecord, StoreError> {
    stored_trial(row)?.read()
}

fn stored_trial(row: &Row<'_>) -> Result<StoredTrial, StoreError> {
    let record = TrialRecord {
        key: read_key(row)?,
        outcome: read_outcome(row, 4)?,
        detail: row.get(5)?,
        started_ms: row.get(6)?,
        took_ms: row.get(7)?,
        audio_s: row.get(8)?,
        cpu_s: row.get(9)?,
        peak_memory_kib: row.get::<_, Option<i64>>(10)?.map(|kib| kib as u64),
        heard: None,
        audio_file: row.get(12)?,
        measures: None,
        prepared: row.get(14)?,
        first_ms: row.get(15)?,
        replied: row.get(16)?,
        traffic: Traffic::default(),
        used: None,
        speech: None,
    };
    Ok(StoredTrial { record, texts: [row.get(11)?, row.get(13)?, row.get(17)?, row.get(18)?, row.get(19)?] })
}
