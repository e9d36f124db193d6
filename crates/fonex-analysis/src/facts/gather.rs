//! Taking the facts from trials: each is compared with its label and observed by every fact of its task.

use fonex_core::accuracy::ScoreBuilder;
use fonex_core::cost::{Prices, Usage};
use fonex_core::in_parallel;
use fonex_core::latency::measure_live;
use fonex_core::measures::{Fact, HearingCounts, Trial, facts_of};
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Task};
use fonex_engines::lists_language;
use fonex_store::{KeptFact, Run, Store, StoreError, StoredTrial, TrialRecord};

use super::{EXTRAS, PLACES, chunk_name};
use crate::column::Column;
use crate::extras::{AskedText, ExtrasBuilder};
use crate::labels::{Labels, StoredLabel};
use crate::markup::PlainTwins;
use crate::rounds::in_rounds;
use crate::sheet::Sheet;

/// Trials of one part that one core works on.
const PART: usize = 1 << 10;
/// Trials read before all cores work on them.
const ROUND: usize = 1 << 13;
/// Trials of a chunk in the store. This many of each variant have all their facts in memory.
const CHUNK: usize = 1 << 14;

/// What every trial of a run is measured with.
pub(crate) struct Around<'r> {
    run: &'r Run,
    profile: &'r TextProfile,
    /// By variant: the facts of its task.
    pub(crate) facts: Vec<Vec<&'static Fact>>,
    /// By variant: what a unit of use costs.
    prices: Vec<Option<UnitCosts>>,
    empty: &'r ScoreBuilder,
    plain: PlainTwins,
}

/// Trials that were read together, and the labels of their clips.
pub(crate) struct Round {
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
pub(crate) struct Observed {
    pub(crate) variant: usize,
    pub(crate) place: u32,
    in_pieces: bool,
    /// What was asked for, where the trial is not of hearing.
    asked: Option<AskedText>,
    pub(crate) rows: Vec<Vec<f64>>,
}

/// One variant's columns so far.
struct Gathering {
    places: Column,
    columns: Vec<Column>,
    chunk: usize,
    extras: ExtrasBuilder,
}

/// Takes the facts from all trials and hands them over chunk by chunk.
pub(super) fn gather(
    store: &Store,
    run: &Run,
    profile: &TextProfile,
    keep: &mut dyn FnMut(KeptFact) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let labels = Labels::load(store, &run.corpus_checksum)?;
    let empty = Sheet::load(store, &run.corpus_checksum)?.empty_score(profile);
    let around = Around::new(store, run, profile, &empty)?;
    let mut kept = Vec::new();
    let read = |then: &mut dyn FnMut(Round) -> Result<(), StoreError>| {
        store.each_round(run.id, ROUND, |trials| then(Round::of(&labels, trials)?))
    };
    let gathering = in_rounds(read, keep, |rounds, kept| {
        let variants = run.variants.iter().zip(&around.facts);
        let mut gathering: Vec<Gathering> =
            variants.map(|(variant, facts)| Gathering::new(variant.task, facts)).collect();
        for round in rounds {
            around.take_in(&round, &mut gathering, kept)?;
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
    pub(crate) fn of(labels: &Labels<'_>, trials: Vec<StoredTrial>) -> Result<Self, StoreError> {
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
    pub(crate) fn new(
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
        round: &Round,
        gathering: &mut [Gathering],
        kept: &mut dyn FnMut(KeptFact),
    ) -> Result<(), StoreError> {
        for (trial, observed) in self.observe_all(round)? {
            let asked = observed.as_ref().and_then(|observed| observed.asked);
            gathering[trial.key.variant].extras.add(&trial, asked);
            if let Some(observed) = observed {
                gathering[observed.variant].add(&observed, &self.facts[observed.variant], kept);
            }
        }
        Ok(())
    }

    /// Every trial of a round with what it contributes to its variant's facts; nothing of warm-up trials.
    pub(crate) fn observe_all(&self, round: &Round) -> Result<Vec<(TrialRecord, Option<Observed>)>, StoreError> {
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
        let mut all = Vec::with_capacity(round.trials.len());
        for part in observed {
            all.extend(part?);
        }
        Ok(all)
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
            if fact.is_of(record.outcome.is_answer()) {
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
        facts.iter().zip(&mut self.columns).for_each(|(fact, column)| put(&fact.kept_as(), column));
        self.chunk += 1;
    }

    fn finish(mut self, variant: usize, facts: &[&'static Fact], kept: &mut dyn FnMut(KeptFact)) -> ExtrasBuilder {
        if self.places.trials() > 0 {
            self.keep(variant, facts, kept);
        }
        self.extras
    }
}
