//! From stored trials to facts: what each trial contributes to every measure, computed once under a text profile and kept
//! beside the trials.

use std::collections::HashMap;

use fonex_core::accuracy::ScoreBuilder;
use fonex_core::cost::{Prices, Usage};
use fonex_core::latency::measure_live;
use fonex_core::measures::{FACTS_VERSION, Fact, HearingCounts, Trial, Trials, facts_of};
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Task};
use fonex_engines::lists_language;
use fonex_formats::in_parallel;
use fonex_store::{FactsKey, KeptFact, Run, RunState, Store, StoreError, StoredTrial, TrialRecord};

use crate::checksum::profile_checksum;
use crate::column::Column;
use crate::extras::{AskedText, Extras, ExtrasBuilder};
use crate::labels::{Labels, StoredLabel};
use crate::markup::PlainTwins;
use crate::rounds::in_rounds;

/// Trials of one part that one core works on.
const PART: usize = 1 << 10;
/// Trials read before all cores work on them.
const ROUND: usize = 1 << 13;
/// Trials of a chunk in the store. This many of each variant have all their facts in memory.
const CHUNK: usize = 1 << 14;

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
        self.column(store, variant, fact.id, fact.width)
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

    /// Keeps a record under these facts, or holds it where the store may only be read.
    pub(crate) fn keep_or_hold(&mut self, store: &Store, fact: KeptFact) {
        if let Some(held) = &mut self.held {
            held.insert((fact.variant, fact.fact), fact.record);
        } else if store.keep_fact(&self.key, &fact).is_err() {
            self.beside.insert((fact.variant, fact.fact), fact.record);
        }
    }

    /// Keeps a record under these facts, for as long as they are kept.
    pub(crate) fn keep(&self, store: &Store, variant: usize, name: String, record: Vec<u8>) {
        // A store that may only be read is read all the same.
        drop(store.keep_fact(&self.key, &KeptFact { variant, fact: name, record }));
    }

    fn column(&self, store: &Store, variant: usize, fact: &str, width: usize) -> Result<Column, StoreError> {
        let mut chunks = Vec::new();
        while let Some(bytes) = self.kept(store, variant, &chunk_name(fact, chunks.len()))? {
            chunks.push(bytes);
        }
        Ok(Column::of_chunks(width, chunks))
    }
}

pub(crate) fn chunk_name(fact: &str, chunk: usize) -> String {
    format!("{fact}/{chunk}")
}

/// What every trial of a run is measured with.
struct Around<'r> {
    run: &'r Run,
    profile: &'r TextProfile,
    /// By variant: the facts of its task.
    facts: Vec<Vec<&'static Fact>>,
    /// By variant: what a unit of use costs.
    prices: Vec<Option<UnitCosts>>,
    empty: &'r ScoreBuilder,
    plain: PlainTwins,
}

/// Trials that were read together, and the labels of their clips.
struct Round {
    trials: Vec<InRound>,
    labels: Vec<StoredLabel>,
}

/// A trial and which label of its round it has; none where the corpus does not hold its clip.
type InRound = (StoredTrial, Option<usize>);

/// What a request, a character and a second of audio cost a variant, tiers and allowances shared out.
#[derive(Debug, Clone, Copy)]
struct UnitCosts {
    request: f64,
    character: f64,
    audio_s: f64,
}

impl UnitCosts {
    fn of(prices: &Prices, all: Usage) -> Self {
        let share = |part: Usage| {
            let rest = Usage {
                requests: all.requests - part.requests,
                characters: all.characters - part.characters,
                audio_s: all.audio_s - part.audio_s,
            };
            prices.shares(&[part, rest])[0]
        };
        let each = |part: Usage, units: f64| if units > 0.0 { share(part) / units } else { 0.0 };
        Self {
            request: each(Usage { requests: all.requests, ..Usage::default() }, all.requests as f64),
            character: each(Usage { characters: all.characters, ..Usage::default() }, all.characters as f64),
            audio_s: each(Usage { audio_s: all.audio_s, ..Usage::default() }, all.audio_s),
        }
    }

    fn cost(&self, used: Usage) -> f64 {
        self.request * used.requests as f64 + self.character * used.characters as f64 + self.audio_s * used.audio_s
    }
}

/// The facts of one trial, in the order of its variant's facts.
struct Observed {
    variant: usize,
    place: u32,
    in_pieces: bool,
    /// What was asked for, where the trial is not of hearing.
    asked: Option<AskedText>,
    rows: Vec<Vec<f64>>,
}

/// One variant's columns so far.
struct Gathering {
    places: Column,
    columns: Vec<Column>,
    chunk: usize,
    extras: ExtrasBuilder,
}

/// Takes the facts from all trials and hands them over chunk by chunk.
fn gather(
    store: &Store,
    run: &Run,
    profile: &TextProfile,
    keep: &mut dyn FnMut(KeptFact) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let labels = Labels::load(store, &run.corpus_checksum, profile)?;
    let around = Around::new(store, run, profile, &labels.empty_score)?;
    let mut kept = Vec::new();
    let read = |then: &mut dyn FnMut(Round) -> Result<(), StoreError>| {
        store.each_round(run.id, ROUND, |trials| then(Round::of(&labels, trials)?))
    };
    let gathering = in_rounds(read, keep, |rounds, kept| {
        let variants = run.variants.iter().zip(&around.facts);
        let mut gathering: Vec<Gathering> =
            variants.map(|(variant, facts)| Gathering::new(variant.task, facts)).collect();
        for round in rounds {
            around.take_in(round, &mut gathering, kept)?;
        }
        Ok(gathering)
    })?;
    for (at, gathering) in gathering.into_iter().enumerate() {
        let extras = gathering.finish(at, &around.facts[at], &mut |fact| kept.push(fact)).finish(run.seed);
        kept.push(KeptFact { variant: at, fact: EXTRAS.to_owned(), record: serde_json::to_vec(&extras)? });
    }
    kept.into_iter().try_for_each(keep)
}

impl Round {
    fn of(labels: &Labels<'_>, trials: Vec<StoredTrial>) -> Result<Self, StoreError> {
        let of_trials: Vec<Option<u32>> = trials.iter().map(|trial| labels.place(trial.clip_id())).collect();
        let mut places: Vec<u32> = of_trials.iter().flatten().copied().collect();
        places.sort_unstable();
        places.dedup();
        let labels = labels.at(places.into_iter())?;
        let find = |place: u32| labels.binary_search_by_key(&place, |label| label.place).ok();
        let trials = trials.into_iter().zip(of_trials).map(|(trial, place)| (trial, place.and_then(find)));
        Ok(Self { trials: trials.collect(), labels })
    }
}

impl<'r> Around<'r> {
    fn new(
        store: &Store,
        run: &'r Run,
        profile: &'r TextProfile,
        empty: &'r ScoreBuilder,
    ) -> Result<Self, StoreError> {
        let mut used = vec![Usage::default(); run.variants.len()];
        for (variant, usage) in store.used(run.id)? {
            used[variant] = used[variant].plus(usage);
        }
        let prices = run.variants.iter().map(|variant| {
            // Variants of one engine at the same prices are charged together.
            let together =
                |other: &fonex_store::Variant| other.engine == variant.engine && other.prices == variant.prices;
            let all = run.variants.iter().zip(&used).filter(|(other, _)| together(other));
            let all = all.fold(Usage::default(), |all, (_, used)| all.plus(*used));
            Some(UnitCosts::of(variant.prices.as_ref()?, all))
        });
        let prices = prices.collect();
        Ok(Self {
            run,
            profile,
            facts: run.variants.iter().map(|variant| facts_of(variant.task)).collect(),
            prices,
            empty,
            plain: PlainTwins::load(store, run)?,
        })
    }

    /// Measures some trials on all cores and puts them behind those before.
    fn take_in(
        &self,
        round: Round,
        gathering: &mut [Gathering],
        kept: &mut dyn FnMut(KeptFact),
    ) -> Result<(), StoreError> {
        let parts: Vec<&[InRound]> = round.trials.chunks(PART).collect();
        let observed = in_parallel(&parts, |part| {
            let mut builder = self.empty.clone();
            let observe = |(stored, label): &InRound| -> Result<_, StoreError> {
                let trial = stored.read()?;
                let observed = match label {
                    Some(label) if !trial.key.warm_up => self.observe(&trial, &round.labels[*label], &mut builder)?,
                    _ => None,
                };
                Ok((trial, observed))
            };
            part.iter().map(observe).collect::<Result<Vec<_>, _>>()
        });
        for part in observed {
            for (trial, observed) in part? {
                let asked = observed.as_ref().and_then(|observed| observed.asked);
                gathering[trial.key.variant].extras.add(&trial, asked);
                if let Some(observed) = observed {
                    gathering[observed.variant].add(&observed, &self.facts[observed.variant], kept);
                }
            }
        }
        Ok(())
    }

    /// None where the label cannot be parsed.
    fn observe(
        &self,
        record: &TrialRecord,
        label: &StoredLabel,
        builder: &mut ScoreBuilder,
    ) -> Result<Option<Observed>, StoreError> {
        let variant = &self.run.variants[record.key.variant];
        let (place, clip) = (label.place, &variant.label(label.read()?));
        let Ok(label) = Label::parse(&clip.text) else { return Ok(None) };
        let hearing = (variant.task == Task::Hear).then(|| self.hearing(record, clip, &label, builder));
        let in_pieces = hearing.as_ref().is_some_and(|counts| counts.in_pieces);
        let text_to_speak = if variant.task == Task::Hear { String::new() } else { label.first_reading() };
        let costs = self.prices[record.key.variant];
        let trial = Trial {
            clip,
            outcome: record.outcome,
            hearing: hearing.as_ref(),
            took_ms: record.took_ms,
            first_ms: record.first_ms,
            audio_s: record.audio_s,
            cpu_s: record.cpu_s,
            peak_memory_kib: record.peak_memory_kib,
            spoken: record.measures.as_ref(),
            speech: record.speech.as_ref(),
            text_to_speak: &text_to_speak,
            markup: self.plain.followed(record.key.variant, clip, record.speech.as_ref()),
            replied: record.replied.as_deref(),
            traffic: Some(&record.traffic),
            cost: costs.zip(record.used).map(|(costs, used)| costs.cost(used)),
        };
        let rows = self.facts[record.key.variant].iter().map(|fact| {
            let mut rows = Vec::new();
            if fact.of == Trials::All || record.outcome.is_answer() {
                (fact.observe)(&trial, &mut rows);
            }
            rows
        });
        let asked = (variant.task != Task::Hear).then(|| AskedText {
            place,
            characters: clip.text.chars().count() as u32,
            other_language: clip.lang.as_ref().is_some_and(|lang| !lists_language(&variant.languages, lang)),
        });
        Ok(Some(Observed { variant: record.key.variant, place, in_pieces, asked, rows: rows.collect() }))
    }

    fn hearing(&self, record: &TrialRecord, clip: &Clip, label: &Label, builder: &mut ScoreBuilder) -> HearingCounts {
        let heard = record.heard.as_ref().filter(|_| record.outcome.is_answer());
        let Some(heard) = heard else { return builder.hear_nothing(self.profile, label) };
        let mut counts = builder.hear(self.profile, clip, label, heard);
        counts.live = record.traffic.live.as_ref().map(|log| measure_live(self.profile, clip, &heard.text, log));
        counts
    }
}

impl Gathering {
    fn new(task: Task, facts: &[&'static Fact]) -> Self {
        Self {
            places: Column::new(1),
            columns: facts.iter().map(|fact| Column::new(fact.width)).collect(),
            chunk: 0,
            extras: ExtrasBuilder::new(task),
        }
    }

    fn add(&mut self, observed: &Observed, facts: &[&'static Fact], kept: &mut dyn FnMut(KeptFact)) {
        self.extras.add_in_pieces(observed.in_pieces);
        self.places.push(&[f64::from(observed.place)]);
        self.columns.iter_mut().zip(&observed.rows).for_each(|(column, rows)| column.push(rows));
        if self.places.trials() == CHUNK {
            self.keep(observed.variant, facts, kept);
        }
    }

    /// Puts what there is into a chunk.
    fn keep(&mut self, variant: usize, facts: &[&'static Fact], kept: &mut dyn FnMut(KeptFact)) {
        let mut put = |fact: &str, column: &mut Column| {
            let record = std::mem::replace(column, Column::new(column.width)).encode();
            kept(KeptFact { variant, fact: chunk_name(fact, self.chunk), record });
        };
        put(PLACES, &mut self.places);
        facts.iter().zip(&mut self.columns).for_each(|(fact, column)| put(fact.id, column));
        self.chunk += 1;
    }

    fn finish(mut self, variant: usize, facts: &[&'static Fact], kept: &mut dyn FnMut(KeptFact)) -> ExtrasBuilder {
        if self.places.trials() > 0 {
            self.keep(variant, facts, kept);
        }
        self.extras
    }
}
