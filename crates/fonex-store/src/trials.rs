//! Trials of a run: written as they end, read in the order that is asked for.

use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap, HashSet};

use fonex_core::Outcome;
use fonex_core::cost::Usage;
use fonex_core::latency::Traffic;

use crate::database::{Row, Value, values};
use crate::{Store, StoreError, TrialKey, TrialRecord};

const TRIAL_COLUMNS: &str = "variant, clip_id, repeat, warm_up, outcome, detail, started_ms, took_ms, audio_s, cpu_s, \
                             peak_memory_kib, heard, audio_file, measures, prepared, first_ms, replied, traffic, used, speech, made_by";
const COLUMNS_OF_TRIAL: usize = 21;
/// Trials that are read in one go.
const ROUND: usize = 512;

impl Store {
    /// Writes one trial in a transaction of its own. A trial that is there already stays as it is; gives whether this
    /// one was new.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn save_trial(&self, run: i64, trial: &TrialRecord) -> Result<bool, StoreError> {
        if let Some(name) = &trial.audio_file {
            self.share_audio(name)?;
        }
        let places: Vec<String> = (1..=COLUMNS_OF_TRIAL + 1).map(|place| format!("${place}")).collect();
        let places = places.join(", ");
        let sql = format!("insert into trials (run_id, {TRIAL_COLUMNS}) values ({places}) on conflict do nothing");
        Ok(self.database.execute(&sql, &row(run, trial)?)? == 1)
    }

    /// Writes trials; those that are there already stay as they are. Of a file each is in a transaction of its own; a server takes all
    /// of them or none, and is asked once.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn save_trials(&self, run: i64, trials: &[TrialRecord]) -> Result<(), StoreError> {
        for name in trials.iter().filter_map(|trial| trial.audio_file.as_ref()) {
            self.share_audio(name)?;
        }
        let rows = trials.iter().map(|trial| row(run, trial)).collect::<Result<Vec<_>, _>>()?;
        self.database.insert_all(&format!("trials (run_id, {TRIAL_COLUMNS})"), &rows)
    }

    /// Every trial of a run, by variant, clip and repeat.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials(&self, run: i64) -> Result<Vec<TrialRecord>, StoreError> {
        let sql = format!(
            "select {TRIAL_COLUMNS} from trials where run_id = $1 order by variant, warm_up desc, repeat, clip_id"
        );
        self.database.rows(&sql, values![run], read_trial)
    }

    /// Calls `with` for every trial of a run, in the order they were stored.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn each_trial(&self, run: i64, mut with: impl FnMut(TrialRecord)) -> Result<(), StoreError> {
        self.each_round(run, ROUND, |round| {
            for trial in round {
                with(trial.read()?);
            }
            Ok(())
        })
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
        let Some((first, last)) = self.places(run)? else { return Ok(()) };
        let mut place = first - 1;
        while place < last {
            let found = self.trials_between(run, place, last, size)?;
            let Some((reached, _)) = found.last() else { return Ok(()) };
            place = *reached;
            with(found.into_iter().map(|(_, trial)| trial).collect())?;
        }
        Ok(())
    }

    /// The first and the last place at which trials of a run lie.
    pub(crate) fn places(&self, run: i64) -> Result<Option<(i64, i64)>, StoreError> {
        let sql = "select min(rowid), max(rowid) from trials where run_id = $1";
        let (first, last): (Option<i64>, Option<i64>) =
            self.database.only(sql, values![run], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(first.zip(last))
    }

    /// The trials of a run that were stored after a place, at most `most`, each with its place, in the order they were stored.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials_after(&self, run: i64, place: i64, most: usize) -> Result<Vec<(i64, StoredTrial)>, StoreError> {
        self.trials_between(run, place, i64::MAX, most)
    }

    fn trials_between(
        &self,
        run: i64,
        place: i64,
        last: i64,
        most: usize,
    ) -> Result<Vec<(i64, StoredTrial)>, StoreError> {
        let run_id = self.database.picks("run_id");
        let sql = format!(
            "select {TRIAL_COLUMNS}, rowid from trials where {run_id} = $1 and rowid > $2 and rowid <= $3 order by rowid limit $4"
        );
        let read = |row: &Row<'_>| Ok((row.get(COLUMNS_OF_TRIAL)?, stored_trial(row)?));
        self.database.rows(&sql, values![run, place, last, most], read)
    }

    /// The timed trials of one clip, by variant and repeat.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trials_of_clip(&self, run: i64, variant: usize, clip_id: &str) -> Result<Vec<TrialRecord>, StoreError> {
        let stored = self.stored_trials_of(run, variant, clip_id, self.repeats(run, variant)?)?;
        stored.iter().map(StoredTrial::read).collect()
    }

    /// One trial.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn trial(&self, run: i64, key: &TrialKey) -> Result<Option<TrialRecord>, StoreError> {
        let sql = format!(
            "select {TRIAL_COLUMNS} from trials
             where run_id = $1 and variant = $2 and warm_up = $3 and repeat = $4 and clip_id = $5"
        );
        self.database.first(&sql, values![run, key.variant, key.warm_up, key.repeat, &key.clip_id], read_trial)
    }

    /// The timed trials of a run that have no answer, with how they ended.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn failed(&self, run: i64) -> Result<Vec<(TrialKey, Outcome)>, StoreError> {
        let sql = "select variant, clip_id, repeat, warm_up, outcome from trials
             where run_id = $1 and warm_up = 0 and outcome not in ('done', 'nothing')";
        self.database.rows(sql, values![run], |row| Ok((read_key(row)?, read_outcome(row, 4)?)))
    }

    /// How often the clips of a variant were asked for, timed.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn repeats(&self, run: i64, variant: usize) -> Result<u32, StoreError> {
        let sql =
            "select coalesce(max(repeat), -1) + 1 from trials where run_id = $1 and variant = $2 and warm_up = 0";
        self.database.only(sql, values![run, variant], |row| row.get(0))
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
        let sql = format!(
            "select {TRIAL_COLUMNS} from trials
             where run_id = $1 and variant = $2 and warm_up = 0 and repeat = $3 and clip_id = $4"
        );
        let mut found = Vec::new();
        for repeat in 0..repeats {
            found.extend(self.database.first(&sql, values![run, variant, repeat, clip_id], stored_trial)?);
        }
        Ok(found)
    }

    /// The trials of a run that have an outcome.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn done(&self, run: i64) -> Result<HashSet<TrialKey>, StoreError> {
        let sql = "select variant, clip_id, repeat, warm_up from trials where run_id = $1";
        Ok(self.database.rows(sql, values![run], read_key)?.into_iter().collect())
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
        let sql = "select variant, clip_id, repeat, warm_up, outcome, audio_file from trials where run_id = $1 and variant = $2";
        let mut spoken = HashMap::new();
        for variant in variants.collect::<BTreeSet<usize>>() {
            self.database.each(sql, values![run, variant], |row| {
                spoken.insert(read_key(row)?, Spoken { outcome: read_outcome(row, 4)?, audio_file: row.get(5)? });
                Ok(())
            })?;
        }
        Ok(spoken)
    }

    /// What a run has used so far, by the place of its variants.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn used(&self, run: i64) -> Result<Vec<(usize, Usage)>, StoreError> {
        let sql = "select variant, used from trials where run_id = $1 and used is not null";
        self.database
            .rows(sql, values![run], |row| Ok((row.get(0)?, serde_json::from_str(&row.get::<Cow<'_, str>>(1)?)?)))
    }

    /// Trials of a run by outcome, warm-up trials left out.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn outcomes(&self, run: i64) -> Result<Vec<(Outcome, u64)>, StoreError> {
        let sql = "select outcome, count(*) from trials where run_id = $1 and warm_up = 0 group by outcome order by outcome";
        self.database.rows(sql, values![run], |row| Ok((read_outcome(row, 0)?, row.get(1)?)))
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

/// The values of a trial's row.
fn row(run: i64, trial: &TrialRecord) -> Result<Vec<Value<'_>>, StoreError> {
    let traffic = if trial.traffic.is_empty() { None } else { Some(serde_json::to_string(&trial.traffic)?) };
    Ok(values![
        run,
        trial.key.variant,
        &trial.key.clip_id,
        trial.key.repeat,
        trial.key.warm_up,
        trial.outcome.as_str(),
        trial.detail.as_ref(),
        trial.started_ms,
        trial.took_ms,
        trial.audio_s,
        trial.cpu_s,
        trial.peak_memory_kib,
        trial.heard.as_ref().map(serde_json::to_string).transpose()?,
        trial.audio_file.as_ref(),
        trial.measures.as_ref().map(serde_json::to_string).transpose()?,
        trial.prepared.as_ref(),
        trial.first_ms,
        trial.replied.as_ref(),
        traffic,
        trial.used.as_ref().map(serde_json::to_string).transpose()?,
        trial.speech.as_ref().map(serde_json::to_string).transpose()?,
        trial.made_by.as_ref().map(serde_json::to_string).transpose()?,
    ]
    .to_vec())
}

fn read_key(row: &Row<'_>) -> Result<TrialKey, StoreError> {
    Ok(TrialKey { variant: row.get(0)?, clip_id: row.get(1)?, repeat: row.get(2)?, warm_up: row.get(3)? })
}

fn read_outcome(row: &Row<'_>, column: usize) -> Result<Outcome, StoreError> {
    row.get::<Cow<'_, str>>(column)?.parse().map_err(|_| StoreError::Cell { column, expected: "an outcome" })
}

/// A trial as its row lies in the store: what is kept as JSON is read later, on any thread.
#[derive(Debug)]
pub struct StoredTrial {
    record: TrialRecord,
    /// Heard, measures, traffic, used, speech, who made it.
    texts: [Option<String>; 6],
}

impl StoredTrial {
    /// The id of its clip.
    #[must_use]
    pub fn clip_id(&self) -> &str {
        &self.record.key.clip_id
    }

    /// Which trial it is.
    pub(crate) const fn key(&self) -> &TrialKey {
        &self.record.key
    }

    /// The trial.
    ///
    /// # Errors
    /// When what is stored is not what this version writes.
    pub fn read(&self) -> Result<TrialRecord, StoreError> {
        fn parsed<T: serde::de::DeserializeOwned>(text: Option<&String>) -> Result<Option<T>, StoreError> {
            Ok(text.map(|text| serde_json::from_str(text)).transpose()?)
        }
        let [heard, measures, traffic, used, speech, made_by] = &self.texts;
        Ok(TrialRecord {
            heard: parsed(heard.as_ref())?,
            measures: parsed(measures.as_ref())?,
            traffic: parsed(traffic.as_ref())?.unwrap_or_default(),
            used: parsed(used.as_ref())?,
            speech: parsed(speech.as_ref())?,
            made_by: parsed(made_by.as_ref())?,
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
        peak_memory_kib: row.get(10)?,
        heard: None,
        audio_file: row.get(12)?,
        measures: None,
        prepared: row.get(14)?,
        first_ms: row.get(15)?,
        replied: row.get(16)?,
        traffic: Traffic::default(),
        used: None,
        speech: None,
        made_by: None,
    };
    Ok(StoredTrial {
        record,
        texts: [row.get(11)?, row.get(13)?, row.get(17)?, row.get(18)?, row.get(19)?, row.get(20)?],
    })
}
