//! Runs with their variants and labels: recorded, found, finished.

use fonex_core::Clip;
use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use crate::{Busy, LeftOut, Machine, NewRun, Run, RunState, Store, StoreError, TrialRecord, Variant};

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
}

const RUN_COLUMNS: &str = "id, label, plan, state, started_at, finished_at, corpus_checksum, record";
impl Store {
    /// Records a new run with its labels, all or nothing. Gives its number.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn create_run(&mut self, run: &NewRun) -> Result<i64, StoreError> {
        let transaction = self.connection().unchecked_transaction()?;
        let id = self.insert_run(run)?;
        transaction.commit()?;
        Ok(id)
    }

    /// Records a run that was made elsewhere, with all its trials, or nothing at all. `next` gives one trial after the other.
    ///
    /// # Errors
    /// When the store cannot be written, and what `next` fails of.
    pub fn take_in_run<E: From<StoreError>>(
        &self,
        run: &NewRun,
        finished_at: Option<&str>,
        mut next: impl FnMut() -> Result<Option<TrialRecord>, E>,
    ) -> Result<i64, E> {
        let transaction = self.connection().unchecked_transaction().map_err(StoreError::from)?;
        let id = self.insert_run(run)?;
        while let Some(trial) = next()? {
            self.save_trial(id, &trial)?;
        }
        if let Some(finished_at) = finished_at {
            self.finish_run(id, finished_at)?;
        }
        transaction.commit().map_err(StoreError::from)?;
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
        };
        self.connection().execute(
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
        let id = self.connection().last_insert_rowid();
        let mut insert = self.connection().prepare(
            "insert into clips (corpus_checksum, ordinal, clip_id, record) values ($1, $2, $3, $4)
             on conflict do nothing",
        )?;
        for (ordinal, clip) in (0_i64..).zip(&run.clips) {
            insert.execute(params![run.corpus_checksum, ordinal, clip.id, serde_json::to_string(clip)?])?;
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
        self.change_rest(run, |rest| rest.machine.during = Some(busy))
    }

    fn change_rest(&self, run: i64, change: impl FnOnce(&mut RunRest)) -> Result<(), StoreError> {
        let sql = "select record from runs where id = $1";
        let record: String = self.connection().query_row(sql, [run], |row| row.get(0))?;
        let mut rest: RunRest = serde_json::from_str(&record)?;
        change(&mut rest);
        let record = serde_json::to_string(&rest)?;
        self.connection().execute("update runs set record = $1 where id = $2", params![record, run])?;
        Ok(())
    }

    /// Marks a run as finished. It gets no further trial: how its trials ended is counted now.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn finish_run(&self, run: i64, finished_at: &str) -> Result<(), StoreError> {
        let listed = serde_json::to_string(&self.listed_now(run)?)?;
        self.connection().execute(
            "update runs set state = 'finished', finished_at = $1, listed = $2 where id = $3",
            params![finished_at, listed, run],
        )?;
        Ok(())
    }

    /// The newest unfinished run of the same plan on the same material, if there is one.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn unfinished(&self, fingerprint: &str, label: Option<&str>) -> Result<Option<i64>, StoreError> {
        let found = self.connection().query_row(
            "select id from runs where state = 'unfinished' and fingerprint = $1 and label is $2
             order by id desc limit 1",
            params![fingerprint, label],
            |row| row.get(0),
        );
        Ok(found.optional()?)
    }

    /// Every run, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn runs(&self) -> Result<Vec<Run>, StoreError> {
        let mut select = self.connection().prepare(&format!("select {RUN_COLUMNS} from runs order by id"))?;
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
        let mut select = self.connection().prepare(&sql)?;
        let mut rows = select.query_and_then([value], read_run)?;
        rows.next().transpose()
    }

    /// The runs with a label, newest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn labelled(&self, label: &str) -> Result<Vec<Run>, StoreError> {
        let sql = format!("select {RUN_COLUMNS} from runs where label = $1 order by id desc");
        let mut select = self.connection().prepare(&sql)?;
        select.query_and_then([label], read_run)?.collect()
    }

    /// The labels of a run's corpus, in corpus order.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clips(&self, corpus_checksum: &str) -> Result<Vec<Clip>, StoreError> {
        let mut select =
            self.connection().prepare("select record from clips where corpus_checksum = $1 order by ordinal")?;
        let rows = select.query_and_then([corpus_checksum], |row| {
            Ok(serde_json::from_str(row.get_ref(0)?.as_str().map_err(rusqlite::Error::from)?)?)
        })?;
        rows.collect()
    }

    /// Whether some label of a corpus has markup for voices. Reads the labels without taking them into memory.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn has_markup(&self, corpus_checksum: &str) -> Result<bool, StoreError> {
        let sql = "select 1 from clips where corpus_checksum = $1 and instr(record, '\"ssml\":') > 0 limit 1";
        let found = self.connection().query_row(sql, [corpus_checksum], |_| Ok(()));
        Ok(found.optional()?.is_some())
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
        let sql = "select clip_id, record from clips where corpus_checksum = $1 order by ordinal";
        let mut select = self.connection().prepare(sql)?;
        let mut rows = select.query([corpus_checksum])?;
        while let Some(row) = rows.next()? {
            let text = |column| row.get_ref(column)?.as_str().map_err(rusqlite::Error::from);
            with(text(0)?, text(1)?)?;
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
        let mut select = self.connection().prepare_cached(sql)?;
        for place in places {
            let mut rows = select.query(params![corpus_checksum, place])?;
            if let Some(row) = rows.next()? {
                let text = |column| row.get_ref(column)?.as_str().map_err(rusqlite::Error::from);
                with(place, text(0)?, text(1)?);
            }
        }
        Ok(())
    }

    /// The label of a clip of a run's corpus, found by its id.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn clip_named(&self, corpus_checksum: &str, id: &str) -> Result<Option<Clip>, StoreError> {
        let sql = "select record from clips where corpus_checksum = $1 and clip_id = $2 order by ordinal limit 1";
        let mut select = self.connection().prepare_cached(sql)?;
        let mut rows = select.query([corpus_checksum, id])?;
        let Some(row) = rows.next()? else { return Ok(None) };
        let record = row.get_ref(0)?.as_str().map_err(rusqlite::Error::from)?;
        Ok(Some(serde_json::from_str(record)?))
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
            let variant: Option<i64> = self.connection().query_row(&sql, [run], |row| row.get(0))?;
            if let Some(variant) = variant.filter(|variant| !(0..known as i64).contains(variant)) {
                return Err(StoreError::Damaged { run, variant, known });
            }
        }
        Ok(())
    }
}

pub(crate) fn read_state(row: &Row<'_>, column: usize) -> Result<RunState, StoreError> {
    let finished = row.get_ref(column)?.as_str().map_err(rusqlite::Error::from)? == "finished";
    Ok(if finished { RunState::Finished } else { RunState::Unfinished })
}

fn read_run(row: &Row<'_>) -> Result<Run, StoreError> {
    let rest: RunRest = serde_json::from_str(row.get_ref(7)?.as_str().map_err(rusqlite::Error::from)?)?;
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
    })
}
