//! From stored trials to facts: what each trial contributes to every measure, computed once under a text profile and kept
//! beside the trials.

mod gather;

use std::collections::{HashMap, HashSet};

use fonex_core::measures::{FACTS_VERSION, Fact, facts_of};
use fonex_core::text::TextProfile;
use fonex_store::{FactsKey, KeptFact, Run, RunState, Store, StoreError};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::checksum::profile_checksum;
use crate::column::Column;
use crate::extras::Extras;
use gather::gather;
pub(crate) use gather::{Around, Observed, Round};

/// The place of each trial's clip in its corpus; the column that says how many trials there are.
const PLACES: &str = "place";
/// What is kept of a variant beside its facts.
const EXTRAS: &str = "extras";

/// Where the facts of a run are found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Facts {
    key: FactsKey,
    /// The facts by variant and name, where the store may only be read.
    held: Option<HashMap<(usize, String), Vec<u8>>>,
    /// Facts that were computed later and could not be kept.
    beside: HashMap<(usize, String), Vec<u8>>,
}

impl Facts {
    /// The facts of a run under a text profile: kept ones, or else computed now and kept.
    ///
    /// # Errors
    /// When the store cannot be read, or writing to it fails half-way.
    pub fn of(store: &mut Store, run: &Run, profile: &TextProfile) -> Result<Self, StoreError> {
        store.check_variants(run.id, run.variants.len())?;
        // A finished run gets no further trial.
        let trials = if run.state == RunState::Finished { 0 } else { store.trial_count(run.id)? };
        let key = FactsKey { run: run.id, profile: profile_checksum(profile), version: FACTS_VERSION, trials };
        let mut facts = Self { key, held: None, beside: HashMap::new() };
        if store.kept_fact(&facts.key, 0, EXTRAS)?.is_some() {
            facts.complete(store, run, profile)?;
            return Ok(facts);
        }
        let kept = store.keep_facts(facts.key.clone()).and_then(|keeping| {
            gather(store, run, profile, &mut |fact| keeping.add(&fact))?;
            keeping.finish()
        });
        // A store that may only be read, or has no room left, is read all the same.
        if kept.is_err() {
            let held = facts.held.insert(HashMap::new());
            gather(store, run, profile, &mut |fact| {
                held.insert((fact.variant, fact.fact), fact.record);
                Ok(())
            })?;
        }
        Ok(facts)
    }

    /// Computes the facts that are not kept, or were kept under another version; the others stay.
    fn complete(&mut self, store: &Store, run: &Run, profile: &TextProfile) -> Result<(), StoreError> {
        let kept = store.kept_names(&self.key)?;
        let is_kept = |variant: usize, fact: &str| kept.contains(&(variant, chunk_name(fact, 0)));
        let mut missing: HashSet<(usize, String)> = HashSet::new();
        for (place, variant) in run.variants.iter().enumerate().filter(|(place, _)| is_kept(*place, PLACES)) {
            let names = facts_of(variant.task).into_iter().map(|fact| fact.kept_as().into_owned());
            missing.extend(names.filter(|name| !is_kept(place, name)).map(|name| (place, name)));
        }
        if missing.is_empty() {
            return Ok(());
        }
        let mut computed = Vec::new();
        gather(store, run, profile, &mut |fact| {
            let name = fact.fact.rsplit_once('/').map_or(fact.fact.as_str(), |(name, _)| name).to_owned();
            if missing.contains(&(fact.variant, name)) {
                computed.push(fact);
            }
            Ok(())
        })?;
        self.keep_or_hold(store, computed);
        Ok(())
    }

    /// The place of each timed trial's clip.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn places(&self, store: &Store, variant: usize) -> Result<Vec<u32>, StoreError> {
        Ok(self.column(store, variant, PLACES, 1)?.numbers.iter().map(|place| *place as u32).collect())
    }

    /// The rows of a fact, trial by trial.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn fact(&self, store: &Store, variant: usize, fact: &Fact) -> Result<Column, StoreError> {
        self.column(store, variant, &fact.kept_as(), fact.width)
    }

    /// What is known of a variant beside its facts.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn extras(&self, store: &Store, variant: usize) -> Result<Extras, StoreError> {
        let record = self.kept(store, variant, EXTRAS)?;
        Ok(record.as_deref().map(serde_json::from_slice).transpose()?.unwrap_or_default())
    }

    /// A record that was kept under these facts.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(crate) fn kept(&self, store: &Store, variant: usize, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        match &self.held {
            Some(held) => Ok(held.get(&(variant, name.to_owned())).cloned()),
            None => match self.beside.get(&(variant, name.to_owned())) {
                Some(record) => Ok(Some(record.clone())),
                None => store.kept_fact(&self.key, variant, name),
            },
        }
    }

    /// Keeps records under these facts, all or none, or holds them where the store may only be read.
    pub(crate) fn keep_or_hold(&mut self, store: &Store, facts: Vec<KeptFact>) {
        let by_name = |fact: KeptFact| ((fact.variant, fact.fact), fact.record);
        if let Some(held) = &mut self.held {
            held.extend(facts.into_iter().map(by_name));
        } else if store.keep_more_facts(&self.key, &facts).is_err() {
            self.beside.extend(facts.into_iter().map(by_name));
        }
    }

    /// What was kept under a name beside these facts, for as long as they are kept; or else what is made now, and kept.
    pub(crate) fn kept_or_made<T: Serialize + DeserializeOwned>(
        &self,
        store: &Store,
        variant: usize,
        name: String,
        make: impl FnOnce() -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        // An infinite bound cannot be kept: what has one is made each time.
        if let Some(kept) = self.kept(store, variant, &name)?.and_then(|record| serde_json::from_slice(&record).ok())
        {
            return Ok(kept);
        }
        let made = make()?;
        let record = serde_json::to_vec(&made)?;
        // A store that may only be read is read all the same.
        drop(store.keep_fact(&self.key, &KeptFact { variant, fact: name, record }));
        Ok(made)
    }

    /// A fact as it is kept, to be read on another thread.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(crate) fn kept_fact(&self, store: &Store, variant: usize, fact: &Fact) -> Result<Kept, StoreError> {
        Ok(Kept { width: fact.width, chunks: self.chunks(store, variant, &fact.kept_as())? })
    }

    fn column(&self, store: &Store, variant: usize, fact: &str, width: usize) -> Result<Column, StoreError> {
        Ok(Column::of_chunks(width, &self.chunks(store, variant, fact)?))
    }

    fn chunks(&self, store: &Store, variant: usize, fact: &str) -> Result<Vec<Vec<u8>>, StoreError> {
        let mut chunks = Vec::new();
        while let Some(bytes) = self.kept(store, variant, &chunk_name(fact, chunks.len()))? {
            chunks.push(bytes);
        }
        Ok(chunks)
    }
}

/// A fact in its stored form.
pub(crate) struct Kept {
    width: usize,
    chunks: Vec<Vec<u8>>,
}

impl Kept {
    pub(crate) fn column(&self) -> Column {
        Column::of_chunks(self.width, &self.chunks)
    }
}

pub(crate) fn chunk_name(fact: &str, chunk: usize) -> String {
    format!("{fact}/{chunk}")
}
