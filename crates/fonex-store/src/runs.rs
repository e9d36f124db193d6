//! Runs with their variants and labels: recorded, found, finished.

use std::borrow::Cow;
use std::collections::BTreeMap;

use fonex_core::Clip;
use serde::{Deserialize, Serialize};

use crate::database::{Row, Value, values};
use crate::{Busy, LeftOut, Machine, NewRun, Run, RunNote, RunState, Store, StoreError, TrialRecord, Variant};

/// What a run that was made elsewhere consists of.
#[derive(Debug)]
pub enum Taken {
    /// A trial.
    Trial(Box<TrialRecord>),
    /// A trial that failed and was made again.
    Retried(Box<TrialRecord>),
}

/// Which run is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RunRef {
    /// The newest run.
    Last,
    /// By number.
    Number(i64),
    /// The newest run with this label.
    Label(String),
}

/// What a run's row holds beside its columns.
#[derive(Serialize, Deserialize, schemars::JsonSchema)]
struct RunRest {
    seed: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    commit: Option<String>,
    fonex_version: String,
    text_profile: fonex_core::text::TextProfile,
    corpus_path: String,
    bench_checksum: String,
    overrides: Vec<String>,
    machine: Machine,
    planned: u64,
    variants: Vec<Variant>,
    left_out: Vec<LeftOut>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    notes: Vec<RunNote>,
}

/// Without the sign before the place the embedded store would walk through the whole corpus in the order that is asked for.
const CLIP_NAMED: &str =
    "select record from clips where corpus_checksum = $1 and clip_id = $2 order by +ordinal limit 1";

/// Trials or labels that are written or read in one go.
const ROUND: usize = 512;

const RUN_COLUMNS: &str = "id, label, plan, state, started_at, finished_at, corpus_checksum, record";
impl Store {
    /// Records a new run with its labels, all or nothing. Gives its number.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn create_run(&mut self, run: &NewRun) -> Result<i64, StoreError> {
        let transaction = self.database.begin()?;
        let id = self.insert_run(run)?;
        transaction.commit()?;
        Ok(id)
    }

    /// Records a run that was made elsewhere, with all its trials, or nothing at all. `next` gives one trial after the other,
    /// those that were made again last.
    ///
    /// # Errors
    /// When the store cannot be written, and what `next` fails of.
    pub fn take_in_run<E: From<StoreError>>(
        &self,
        run: &NewRun,
        finished_at: Option<&str>,
        mut next: impl FnMut() -> Result<Option<Taken>, E>,
    ) -> Result<i64, E> {
        let transaction = self.database.begin()?;
        let id = self.insert_run(run)?;
        let mut round = Vec::with_capacity(ROUND);
        loop {
            let taken = next()?;
            let last = taken.is_none();
            match taken {
                Some(Taken::Trial(trial)) => round.push(*trial),
                Some(Taken::Retried(trial)) => self.keep_retried(id, &trial)?,
                None => {}
            }
            if last || round.len() == ROUND {
                self.save_trials(id, &round)?;
                round.clear();
            }
            if last {
                break;
            }
        }
        if let Some(finished_at) = finished_at {
            self.finish_run(id, finished_at)?;
        }
        transaction.commit()?;
        Ok(id)
    }

    /// Inserts a run with its labels, inside a transaction of the caller.
    fn insert_run(&self, run: &NewRun) -> Result<i64, StoreError> {
        let rest = RunRest {
            seed: run.seed,
            commit: run.commit.clone(),
            fonex_version: run.fonex_version.clone(),
            text_profile: run.text_profile.clone(),
            corpus_path: run.corpus_path.clone(),
            bench_checksum: run.bench_checksum.clone(),
            overrides: run.overrides.clone(),
            machine: run.machine.clone(),
            planned: run.planned,
            variants: run.variants.clone(),
            left_out: run.left_out.clone(),
            notes: run.notes.clone(),
        };
        let id = self.inserted(
            "insert into runs (label, plan, state, started_at, fingerprint, corpus_checksum, record)
             values ($1, $2, 'unfinished', $3, $4, $5, $6)",
            values![
                run.label.as_ref(),
                &run.plan,
                &run.started_at,
                &run.fingerprint,
                &run.corpus_checksum,
                serde_json::to_string(&rest)?
            ],
        )?;
        for (round, clips) in (0_usize..).zip(run.clips.chunks(ROUND)) {
            let row = |(place, clip): (usize, &Clip)| -> Result<Vec<Value<'_>>, StoreError> {
                let ordinal = round * ROUND + place;
                Ok(values![&run.corpus_checksum, ordinal, clip.id.clone(), serde_json::to_string(clip)?].to_vec())
            };
            let rows = clips.iter().enumerate().map(row).collect::<Result<Vec<_>, _>>()?;
            self.database.insert_all("clips (corpus_checksum, ordinal, clip_id, record)", &rows)?;
        }
        Ok(id)
    }

    /// Notes what the engines of a run said their versions are, one entry a variant.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn set_versions(&self, run: i64, versions: &[Option<String>]) -> Result<(), StoreError> {
        self.change_rest(run, |rest| {
            for (variant, version) in rest.variants.iter_mut().zip(versions) {
                variant.engine_version.clone_from(version);
            }
        })
    }

    /// Notes how busy the machine was while a run went on.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn set_busy(&self, run: i64, busy: Busy) -> Result<(), StoreError> {
        self.change_rest(run, |rest| {
            // Of a run in several goes, the busiest tells what its times are worth.
            let busiest = rest.machine.during.filter(|before| before.others > busy.others).unwrap_or(busy);
            rest.machine.during = Some(busiest);
        })
    }

    /// Adds notes to a run, those that it does not have yet.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn add_notes(&self, run: i64, notes: &[RunNote]) -> Result<(), StoreError> {
        self.change_rest(run, |rest| {
            for note in notes {
                if !rest.notes.contains(note) {
                    rest.notes.push(note.clone());
                }
            }
            rest.notes.sort_by(|a, b| a.at.cmp(&b.at));
        })
    }

    /// The notes of all runs that have some, by their numbers.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn noted_runs(&self) -> Result<BTreeMap<i64, Vec<RunNote>>, StoreError> {
        let sql = "select id, record from runs where record like '%\"notes\":[{%'";
        let rows = self.database.rows(sql, &[], |row| {
            let rest: RunRest = serde_json::from_str(&row.get::<Cow<'_, str>>(1)?)?;
            Ok((row.get(0)?, rest.notes))
        })?;
        Ok(rows.into_iter().filter(|(_, notes)| !notes.is_empty()).collect())
    }

    /// Changes what a run's row holds beside its columns. Repeats the change if another process changed the row meanwhile.
    fn change_rest(&self, run: i64, change: impl Fn(&mut RunRest)) -> Result<(), StoreError> {
        loop {
            let sql = "select record from runs where id = $1";
            let before: String = self.database.only(sql, values![run], |row| row.get(0))?;
            let mut rest: RunRest = serde_json::from_str(&before)?;
            change(&mut rest);
            let after = serde_json::to_string(&rest)?;
            let sql = "update runs set record = $1 where id = $2 and record = $3";
            if self.database.execute(sql, values![after, run, before])? > 0 {
                return Ok(());
            }
        }
    }

    /// Marks a run as finished. It gets no further trial: how its trials ended is counted now.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn finish_run(&self, run: i64, finished_at: &str) -> Result<(), StoreError> {
        let listed = serde_json::to_string(&self.listed_now(run)?)?;
        self.database.execute(
            "update runs set state = 'finished', finished_at = $1, listed = $2 where id = $3",
            values![finished_at, listed, run],
        )?;
        Ok(())
    }

    /// The newest unfinished run of the same plan on the same material, if there is one.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn unfinished(&self, fingerprint: &str, label: Option<&str>) -> Result<Option<i64>, StoreError> {
        let sql =
            "select id from runs where state = 'unfinished' and fingerprint = $1 and label is not distinct from $2
             order by id desc limit 1";
        self.database.first(sql, values![fingerprint, label], |row| row.get(0))
    }

    /// Returns the fingerprint of a run: executions with the same fingerprint belong to the same run.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn fingerprint(&self, run: i64) -> Result<String, StoreError> {
        self.database.only("select fingerprint from runs where id = $1", values![run], |row| row.get(0))
    }

    /// Every run, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn runs(&self) -> Result<Vec<Run>, StoreError> {
        self.database.rows(&format!("select {RUN_COLUMNS} from runs order by id"), &[], read_run)
    }

    /// One run.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn run(&self, which: &RunRef) -> Result<Option<Run>, StoreError> {
        let select = |condition: &str| format!("select {RUN_COLUMNS} from runs {condition} order by id desc limit 1");
        let (sql, value) = match which {
            RunRef::Last => (select("where cast($1 as text) is null"), None),
            RunRef::Number(id) => (select("where id = cast(cast($1 as text) as bigint)"), Some(id.to_string())),
            RunRef::Label(label) => (select("where label = $1"), Some(label.clone())),
        };
        self.database.first(&sql, values![value], read_run)
    }

    /// The runs with a label, newest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn labelled(&self, label: &str) -> Result<Vec<Run>, StoreError> {
        let sql = format!("select {RUN_COLUMNS} from runs where label = $1 order by id desc");
        self.database.rows(&sql, values![label], read_run)
    }

    /// The labels of a run's corpus, in corpus order.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clips(&self, corpus_checksum: &str) -> Result<Vec<Clip>, StoreError> {
        let sql = "select record from clips where corpus_checksum = $1 order by ordinal";
        self.database
            .rows(sql, values![corpus_checksum], |row| Ok(serde_json::from_str(&row.get::<Cow<'_, str>>(0)?)?))
    }

    /// Whether some label of a corpus has markup for voices. Reads the labels without taking them into memory.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn has_markup(&self, corpus_checksum: &str) -> Result<bool, StoreError> {
        let sql = "select 1 from clips where corpus_checksum = $1 and record like '%\"ssml\":%' limit 1";
        Ok(self.database.first(sql, values![corpus_checksum], |_| Ok(()))?.is_some())
    }

    /// Calls `with` for the id of every label of a run's corpus, in corpus order, and the label as it lies in the store.
    ///
    /// # Errors
    /// When the store cannot be read, and what `with` failed of.
    pub fn each_label(
        &self,
        corpus_checksum: &str,
        mut with: impl FnMut(&str, &str) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let sql = "select clip_id, record, ordinal from clips where corpus_checksum = $1 and ordinal > $2
             order by ordinal limit $3";
        let (mut place, mut found) = (-1_i64, ROUND);
        while found == ROUND {
            found = 0;
            self.database.each(sql, values![corpus_checksum, place, ROUND], |row| {
                (found, place) = (found + 1, row.get(2)?);
                with(&row.get::<Cow<'_, str>>(0)?, &row.get::<Cow<'_, str>>(1)?)
            })?;
        }
        Ok(())
    }

    /// Calls `with` for the labels at some places of a run's corpus: the place, the clip's id and the label as it lies in the
    /// store. A place beyond the corpus has none.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn labels_at(
        &self,
        corpus_checksum: &str,
        places: impl Iterator<Item = u32>,
        mut with: impl FnMut(u32, &str, &str),
    ) -> Result<(), StoreError> {
        let sql = "select clip_id, record from clips where corpus_checksum = $1 and ordinal = $2";
        for place in places {
            self.database.each(sql, values![corpus_checksum, place], |row| {
                with(place, &row.get::<Cow<'_, str>>(0)?, &row.get::<Cow<'_, str>>(1)?);
                Ok(())
            })?;
        }
        Ok(())
    }

    /// The label of a clip of a run's corpus, found by its id.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clip_named(&self, corpus_checksum: &str, id: &str) -> Result<Option<Clip>, StoreError> {
        self.database.first(CLIP_NAMED, values![corpus_checksum, id], |row| {
            Ok(serde_json::from_str(&row.get::<Cow<'_, str>>(0)?)?)
        })
    }

    /// The label at a place of a run's corpus.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clip_at(&self, corpus_checksum: &str, ordinal: u32) -> Result<Option<Clip>, StoreError> {
        let mut clip = Ok(None);
        self.labels_at(corpus_checksum, std::iter::once(ordinal), |_, _, record| {
            clip = serde_json::from_str(record).map(Some);
        })?;
        Ok(clip?)
    }

    /// Checks that every trial of a run belongs to one of its variants.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when one does not.
    pub fn check_variants(&self, run: i64, known: usize) -> Result<(), StoreError> {
        for bound in ["min", "max"] {
            let sql = format!("select {bound}(variant) from trials where run_id = $1");
            let variant: Option<i64> = self.database.only(&sql, values![run], |row| row.get(0))?;
            if let Some(variant) = variant.filter(|variant| !(0..known as i64).contains(variant)) {
                return Err(StoreError::Damaged { run, variant, known });
            }
        }
        Ok(())
    }
}

pub(crate) fn read_state(row: &Row<'_>, column: usize) -> Result<RunState, StoreError> {
    let finished = row.get::<Cow<'_, str>>(column)? == "finished";
    Ok(if finished { RunState::Finished } else { RunState::Unfinished })
}

fn read_run(row: &Row<'_>) -> Result<Run, StoreError> {
    let rest: RunRest = serde_json::from_str(&row.get::<Cow<'_, str>>(7)?)?;
    Ok(Run {
        id: row.get(0)?,
        label: row.get(1)?,
        plan: row.get(2)?,
        state: read_state(row, 3)?,
        started_at: row.get(4)?,
        finished_at: row.get(5)?,
        corpus_checksum: row.get(6)?,
        seed: rest.seed,
        commit: rest.commit,
        fonex_version: rest.fonex_version,
        text_profile: rest.text_profile,
        corpus_path: rest.corpus_path,
        bench_checksum: rest.bench_checksum,
        overrides: rest.overrides,
        machine: rest.machine,
        planned: rest.planned,
        variants: rest.variants,
        left_out: rest.left_out,
        notes: rest.notes,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clip_is_found_by_its_id_and_not_searched_for() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let plan: Vec<String> = store
            .database
            .rows(&format!("explain query plan {CLIP_NAMED}"), values!["c", "a"], |row| row.get(3))
            .unwrap();
        assert!(plan.iter().any(|step| step.contains("clips_by_id (corpus_checksum=? AND clip_id=?)")), "{plan:?}");
    }
}
