//! One run, measured: each variant with its outcomes and every measure of its task, over all clips and by slice.

use std::collections::HashMap;

use fonex_core::accuracy::Measured;
use fonex_core::cost::Usage;
use fonex_core::measures::{ALL, Fact, Measure, Sample, estimate};
use fonex_core::stats::UnitKind;
use fonex_core::text::TextProfile;
use fonex_core::{Outcome, Task};
use fonex_store::{Run, Store, StoreError, Variant};
use serde::Serialize;

use crate::column::Column;
use crate::extras::{Extras, OutcomeCount};
use crate::facts::Facts;
use crate::profile_checksum;
use crate::sheet::Sheet;

/// What decides which clips share a band of lengths.
const LENGTH: &str = "length";

/// A run with all that is measured of it.
#[derive(Debug, Serialize)]
pub struct RunView {
    /// The run.
    pub run: Run,
    /// Its variants, in the order of the plan.
    pub variants: Vec<VariantView>,
    /// The text profile it is scored under here, where that is not the one it was made with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scored_under: Option<String>,
    #[serde(skip)]
    profile: TextProfile,
    #[serde(skip)]
    facts: Facts,
    #[serde(skip)]
    sheet: Sheet,
}

/// A variant with all that is measured of it. Warm-up trials are left out.
#[derive(Debug, Clone, Serialize)]
pub struct VariantView {
    /// The variant.
    #[serde(flatten)]
    pub variant: Variant,
    /// What is known beside its measures.
    #[serde(flatten)]
    pub extras: Extras,
    /// What it costs, where its engine has prices.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<CostSummary>,
    /// Clips of which a trial has an outcome.
    pub clips: u64,
    /// Every measure of its task that the trials have, over all clips.
    pub measures: Measured,
    /// The same by what clips share, where it has several values.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub slices: Vec<SliceView>,
    /// Its place in the run.
    #[serde(skip)]
    pub place: usize,
    /// The place of each trial's clip.
    #[serde(skip)]
    places: Vec<u32>,
}

/// The measures of the clips that share a value.
#[derive(Debug, Clone, Serialize)]
pub struct SliceView {
    /// What is shared: a tag's name, `speaker`, `lang` or `length`.
    pub by: String,
    /// The value shared.
    pub value: String,
    /// Clips.
    pub clips: u64,
    /// The measures.
    pub measures: Measured,
}

/// What a variant used and what that costs. Warm-up trials are charged as well and count.
#[derive(Debug, Clone, Serialize)]
pub struct CostSummary {
    /// Currency.
    pub currency: String,
    /// What it costs when nothing was used before this run; tiers and the free allowance are shared with the other
    /// variants of the engine.
    pub cost: f64,
    /// The cost spread over the trials.
    pub per_trial: f64,
}

/// How much of a run is measured.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Only these measures; all of them where it is empty.
    pub measures: Vec<&'static Measure>,
    /// Whether slices are measured too.
    pub slices: bool,
    /// What slices hold of a variant with more than [`MANY_TRIALS`] trials, which take long; everything where it is empty.
    pub slices_of_many: Vec<&'static Measure>,
}

/// Trials of a variant beyond which every measure of every slice takes more than a few seconds.
pub const MANY_TRIALS: usize = 50_000;

impl RunView {
    /// Measures a stored run, from kept facts where they are there. `profile` scores it under another text profile than its own.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub fn load(
        store: &mut Store,
        run: Run,
        profile: Option<&TextProfile>,
        wanted: &Wanted,
    ) -> Result<Self, StoreError> {
        let scored_under = profile
            .filter(|profile| profile_checksum(profile) != profile_checksum(&run.text_profile))
            .map(|profile| profile.name.clone());
        let profile = profile.cloned().unwrap_or_else(|| run.text_profile.clone());
        let facts = Facts::of(store, &run, &profile)?;
        let sheet = Sheet::load(store, &run.corpus_checksum)?;
        let mut view = Self { run, variants: Vec::new(), scored_under, profile, facts, sheet };
        for (place, variant) in view.run.variants.iter().enumerate() {
            let measured = view.measure(store, place, variant.clone(), wanted)?;
            view.variants.push(measured);
        }
        let costs = costs(&view.variants);
        view.variants.iter_mut().zip(costs).for_each(|(view, cost)| view.cost = cost);
        Ok(view)
    }

    /// The text profile the run is scored under here.
    #[must_use]
    pub const fn profile(&self) -> &TextProfile {
        &self.profile
    }

    /// What its clips share.
    #[must_use]
    pub const fn sheet(&self) -> &Sheet {
        &self.sheet
    }

    /// A name for people: number and label.
    #[must_use]
    pub fn name(&self) -> String {
        match &self.run.label {
            Some(label) => format!("{} ({label})", self.run.id),
            None => self.run.id.to_string(),
        }
    }

    /// The rows of a fact of one variant by its trials, with the place of each trial's clip.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn fact<'v>(
        &'v self,
        store: &Store,
        variant: &'v VariantView,
        fact: &Fact,
    ) -> Result<(Column, &'v [u32]), StoreError> {
        Ok((self.facts.fact(store, variant.place, fact)?, &variant.places))
    }

    fn measure(
        &self,
        store: &Store,
        place: usize,
        variant: Variant,
        wanted: &Wanted,
    ) -> Result<VariantView, StoreError> {
        let extras = self.facts.extras(store, place)?;
        let places = self.facts.places(store, place)?;
        let task = variant.task;
        let by_clip = ByClip::new(&places);
        let mut view = VariantView {
            variant,
            extras,
            cost: None,
            clips: by_clip.clips.len() as u64,
            measures: Measured::default(),
            slices: Vec::new(),
            place,
            places: Vec::new(),
        };
        let mut slices: Vec<(SliceView, Vec<usize>)> =
            if wanted.slices { self.slices_of(store, place, task, &by_clip, &places)? } else { Vec::new() };
        let asked = |measure: &&&'static Measure| {
            let named = wanted.measures.is_empty() || wanted.measures.iter().any(|other| other.id == measure.id);
            named && measure.tasks.contains(&task)
        };
        let asked: Vec<&'static Measure> = ALL.iter().filter(asked).copied().collect();
        let mut done: Vec<&str> = Vec::new();
        // Fact by fact, so that one column is in memory at a time.
        for fact in asked.iter().map(|measure| measure.fact) {
            if done.contains(&fact.id) {
                continue;
            }
            done.push(fact.id);
            let sample = by_clip.sample(&self.facts.fact(store, place, fact)?);
            if sample.is_empty() {
                continue;
            }
            let own: Vec<&&'static Measure> = asked.iter().filter(|measure| measure.fact.id == fact.id).collect();
            for measure in &own {
                if let Some(estimate) = estimate(measure.estimator, &sample) {
                    view.measures.insert(measure, estimate);
                }
            }
            let many = places.len() > MANY_TRIALS && !wanted.slices_of_many.is_empty();
            let sliced = |measure: &&&&'static Measure| {
                !many || wanted.slices_of_many.iter().any(|other| other.id == measure.id)
            };
            let own: Vec<&&'static Measure> = own.iter().filter(sliced).copied().collect();
            for (slice, members) in slices.iter_mut().filter(|_| !own.is_empty()) {
                let sample = sample.at(members.iter().copied());
                for measure in &own {
                    if let Some(estimate) = estimate(measure.estimator, &sample) {
                        slice.measures.insert(measure, estimate);
                    }
                }
            }
        }
        view.slices = slices.into_iter().map(|(slice, _)| slice).collect();
        view.places = places;
        Ok(view)
    }

    /// The slices of a variant's clips with the places of their clips among them; only where a key has several values.
    fn slices_of(
        &self,
        store: &Store,
        place: usize,
        task: Task,
        by_clip: &ByClip,
        places: &[u32],
    ) -> Result<Vec<(SliceView, Vec<usize>)>, StoreError> {
        let mut slices = Vec::new();
        for key in &self.sheet.keys {
            let mut members: Vec<Vec<usize>> = vec![Vec::new(); key.values.len()];
            for (at, clip) in by_clip.clips.iter().enumerate() {
                if let Some(value) = (key.of_clip[*clip as usize] as usize).checked_sub(1) {
                    members[value].push(at);
                }
            }
            if members.iter().filter(|members| !members.is_empty()).count() > 1 {
                for (value, members) in key.values.iter().zip(members).filter(|(_, members)| !members.is_empty()) {
                    slices.push((slice(&key.by, value, members.len()), members));
                }
            }
        }
        if task == Task::Hear {
            slices.extend(self.lengths_of(store, place, by_clip, places)?);
        }
        Ok(slices)
    }

    /// Bands of label lengths, by the words that the text profile leaves.
    fn lengths_of(
        &self,
        store: &Store,
        place: usize,
        by_clip: &ByClip,
        places: &[u32],
    ) -> Result<Vec<(SliceView, Vec<usize>)>, StoreError> {
        const BANDS: [(f64, &str); 4] =
            [(5.0, "to 5 words"), (15.0, "6 to 15 words"), (50.0, "16 to 50 words"), (f64::MAX, "over 50 words")];
        let Some(measure) = fonex_core::measures::find("wer_failures_as_empty") else { return Ok(Vec::new()) };
        let words = self.facts.fact(store, place, measure.fact)?;
        let mut length: HashMap<u32, f64> = HashMap::new();
        for (trial, clip) in places.iter().enumerate() {
            if let [correct, substituted, deleted, _] = words.rows(trial) {
                length.entry(*clip).or_insert(correct + substituted + deleted);
            }
        }
        let mut members: [Vec<usize>; 4] = Default::default();
        for (at, clip) in by_clip.clips.iter().enumerate() {
            let words = length.get(clip).copied().unwrap_or_default();
            let band = BANDS.iter().position(|(most, _)| words <= *most).unwrap_or(BANDS.len() - 1);
            members[band].push(at);
        }
        if members.iter().filter(|members| !members.is_empty()).count() < 2 {
            return Ok(Vec::new());
        }
        let bands = BANDS.iter().zip(members).filter(|(_, members)| !members.is_empty());
        Ok(bands.map(|((_, band), members)| (slice(LENGTH, band, members.len()), members)).collect())
    }
}

fn slice(by: &str, value: &str, clips: usize) -> SliceView {
    SliceView { by: by.to_owned(), value: value.to_owned(), clips: clips as u64, measures: Measured::default() }
}

/// Trials put together by clip, clips in the order of the corpus.
pub(crate) struct ByClip {
    /// Places of the clips in the corpus.
    pub(crate) clips: Vec<u32>,
    /// The trials, clip by clip.
    trials: Vec<u32>,
    /// Where each clip's trials end.
    ends: Vec<u32>,
}

impl ByClip {
    pub(crate) fn new(places: &[u32]) -> Self {
        let most = places.iter().max().map_or(0, |place| *place as usize + 1);
        let mut starts: Vec<u32> = vec![0; most + 1];
        places.iter().for_each(|place| starts[*place as usize + 1] += 1);
        let clips: Vec<u32> = (0..most as u32).filter(|place| starts[*place as usize + 1] > 0).collect();
        (0..most).for_each(|place| starts[place + 1] += starts[place]);
        let ends = clips.iter().map(|place| starts[*place as usize + 1]).collect();
        let mut trials = vec![0; places.len()];
        for (trial, place) in (0..).zip(places) {
            let next = &mut starts[*place as usize];
            trials[*next as usize] = trial;
            *next += 1;
        }
        Self { clips, trials, ends }
    }

    /// A fact clip by clip, each clip a unit. Only repeats that contribute share the clip's weight.
    pub(crate) fn sample(&self, column: &Column) -> Sample {
        let mut sample = Sample::new(column.width, UnitKind::Clip);
        for at in 0..self.clips.len() {
            add_clip(&mut sample, at as u32, self.at(at), column);
        }
        sample
    }

    fn at(&self, at: usize) -> &[u32] {
        let start = at.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.trials[start as usize..self.ends[at] as usize]
    }

    /// The trials of the clip at a place of the corpus.
    pub(crate) fn trials_of(&self, clip: u32) -> &[u32] {
        self.clips.binary_search(&clip).map_or(&[], |at| self.at(at))
    }
}

/// Adds a clip with the rows of those of its trials that have some.
pub(crate) fn add_clip(sample: &mut Sample, unit: u32, trials: &[u32], column: &Column) {
    if let [trial] = trials {
        sample.add(unit, [column.rows(*trial as usize)].into_iter());
        return;
    }
    let rows: Vec<&[f64]> =
        trials.iter().map(|trial| column.rows(*trial as usize)).filter(|rows| !rows.is_empty()).collect();
    sample.add(unit, rows.into_iter());
}

impl VariantView {
    /// Timed trials that have no answer.
    #[must_use]
    pub fn failed(&self) -> u64 {
        let failed = self.extras.outcomes.iter().filter(|count| !count.outcome.is_answer());
        failed.map(|OutcomeCount { trials, .. }| trials).sum()
    }

    /// The trials that ended in one way.
    #[must_use]
    pub fn ended(&self, outcome: Outcome) -> u64 {
        self.extras.outcomes.iter().filter(|count| count.outcome == outcome).map(|count| count.trials).sum()
    }

    /// The slice of the clips that share what another slice's do.
    #[must_use]
    pub fn same_slice(&self, other: &SliceView) -> Option<&SliceView> {
        self.slices.iter().find(|slice| (&slice.by, &slice.value) == (&other.by, &other.value))
    }

    /// The place of each timed trial's clip in the corpus.
    #[must_use]
    pub fn places(&self) -> &[u32] {
        &self.places
    }
}

/// The costs of a run's variants, in their order; none for one whose engine has no prices.
fn costs(variants: &[VariantView]) -> Vec<Option<CostSummary>> {
    let mut costs: Vec<Option<CostSummary>> = variants.iter().map(|_| None).collect();
    for (at, view) in variants.iter().enumerate() {
        let Some(prices) = view.variant.prices.as_ref().filter(|_| costs[at].is_none()) else { continue };
        // What is charged together: the variants of one engine at the same prices.
        let together: Vec<usize> = (at..variants.len())
            .filter(|i| {
                let other = &variants[*i].variant;
                other.engine == view.variant.engine && other.prices.as_ref() == Some(prices)
            })
            .collect();
        let parts: Vec<Usage> = together.iter().map(|i| variants[*i].extras.used).collect();
        for (i, cost) in together.into_iter().zip(prices.shares(&parts)) {
            let trials = variants[i].extras.trials + variants[i].extras.warm_up;
            let per_trial = cost / trials.max(1) as f64;
            costs[i] = Some(CostSummary { currency: prices.currency.clone(), cost, per_trial });
        }
    }
    costs
}
