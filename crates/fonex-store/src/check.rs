//! Whether everything in a store is what it should be: read whole, and held against itself.

use std::collections::HashMap;
use std::fs;

use sha2::{Digest, Sha256};

use crate::copy::hexadecimal;
use crate::database::values;
use crate::{RunRef, RunState, Store, StoreError, TrialRecord};

/// Trials that are read in one go.
const ROUND: usize = 4096;

/// What a check has looked at, and what it found wrong.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Checked {
    /// Runs.
    pub runs: u64,
    /// Trials of all runs.
    pub trials: u64,
    /// Labels of all corpora.
    pub clips: u64,
    /// Sound files to which trials refer.
    pub sounds: u64,
    /// What is wrong, each with its run and trial.
    pub wrong: Vec<String>,
}

impl Store {
    /// Reads everything and says what cannot be right. `each` is called after every run.
    ///
    /// # Errors
    /// When the store cannot be read at all.
    pub fn check(&self, mut each: impl FnMut(&Checked)) -> Result<Checked, StoreError> {
        let mut checked = Checked::default();
        if self.database.is_file() {
            let mut said = self.database.rows("pragma integrity_check(20)", &[], |row| row.get::<String>(0))?;
            said.retain(|line| line != "ok");
            checked.wrong.extend(said.into_iter().map(|line| format!("the database file: {line}")));
        }
        let mut sounds: HashMap<String, String> = HashMap::new();
        for id in self.database.rows("select id from runs order by id", &[], |row| row.get::<i64>(0))? {
            checked.runs += 1;
            if let Err(error) = self.check_run(id, &mut checked, &mut sounds) {
                checked.wrong.push(format!("run {id}: {error}"));
            }
            each(&checked);
        }
        checked.sounds = sounds.len() as u64;
        let files = self.audio_files();
        let mut lost: Vec<String> = Vec::new();
        for (name, whose) in sounds {
            match fs::read(files.path(&name)) {
                Err(_) => lost.push(format!("{whose}: its sound {name} is missing")),
                Ok(bytes) if !name.starts_with(&hexadecimal(&Sha256::digest(&bytes))) => {
                    lost.push(format!("{whose}: its sound {name} is not what its name says"));
                }
                Ok(_) => {}
            }
        }
        lost.sort();
        checked.wrong.extend(lost);
        Ok(checked)
    }

    fn check_run(
        &self,
        id: i64,
        checked: &mut Checked,
        sounds: &mut HashMap<String, String>,
    ) -> Result<(), StoreError> {
        let run = self.run(&RunRef::Number(id))?.ok_or(StoreError::NoRow)?;
        self.check_variants(id, run.variants.len())?;
        let mut ids = HashMap::new();
        self.each_label(&run.corpus_checksum, |clip, record| {
            if let Err(error) = serde_json::from_str::<fonex_core::Clip>(record) {
                checked.wrong.push(format!("run {id}, label {clip}: {error}"));
            }
            ids.insert(clip.to_owned(), ());
            Ok(())
        })?;
        checked.clips += ids.len() as u64;
        let mut timed: u64 = 0;
        self.each_round(id, ROUND, |trials| {
            for trial in trials {
                let name = format!("run {id}, trial of {}", trial.clip_id());
                if !ids.contains_key(trial.clip_id()) {
                    checked.wrong.push(format!("{name}: its corpus has no such clip"));
                }
                timed += u64::from(!trial.key().warm_up);
                match trial.read() {
                    Err(error) => checked.wrong.push(format!("{name}: {error}")),
                    Ok(TrialRecord { audio_file: Some(sound), .. }) => drop(sounds.entry(sound).or_insert(name)),
                    Ok(_) => {}
                }
                checked.trials += 1;
            }
            Ok(())
        })?;
        let kept = self
            .database
            .first("select listed from runs where id = $1", values![id], |row| row.get::<Option<String>>(0))?;
        if let (RunState::Finished, Some(kept)) = (run.state, kept.flatten()) {
            let kept: crate::listed::Listed = serde_json::from_str(&kept)?;
            if kept.trials() != timed {
                let what = format!("it has {timed} timed trials, and had {} when it was finished", kept.trials());
                checked.wrong.push(format!("run {id}: {what}"));
            }
        }
        Ok(())
    }
}
