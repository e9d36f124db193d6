//! One run, measured: each variant with its outcomes and every measure of its task, over all clips and by slice.

use fonex_core::Outcome;
use fonex_core::accuracy::Measured;
use fonex_core::cost::Usage;
use fonex_core::measures::{Fact, find};
use fonex_core::text::TextProfile;
use fonex_store::{Run, Store, StoreError, Variant};
use serde::{Deserialize, Serialize};

use crate::by_clip::APART;
use crate::column::Column;
use crate::extras::{Extras, OutcomeCount};
use crate::facts::Facts;
use crate::figures::{Estimating, Figures, Wanted};
use crate::selection::Selection;
use crate::sheet::Sheet;
use crate::{own, profile_checksum};

/// A run with all that is measured of it.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct RunView {
    /// The run.
    pub run: Run,
    /// Its variants, in the order of the plan.
    pub variants: Vec<VariantView>,
    /// The text profile it is scored under here, where that is not the one it was made with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scored_under: Option<String>,
    /// The condition that its clips meet, where it is restricted to some.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub r#where: Option<String>,
    /// Measures of one's own that could not be computed, each with why.
    #[serde(skip)]
    pub not_measured: Vec<String>,
    #[serde(skip)]
    profile: TextProfile,
    #[serde(skip)]
    facts: Facts,
    #[serde(skip)]
    sheet: Sheet,
    #[serde(skip)]
    only: Option<Selection>,
}

/// A variant with all that is measured of it. Warm-up trials are left out.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
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
    /// Clips whose labels are disputed, which are in no other figure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disputed: Option<DisputedClips>,
    /// Its place in the run.
    #[serde(skip)]
    pub place: usize,
    /// The place of each trial's clip.
    #[serde(skip)]
    places: Vec<u32>,
}

/// The measures of the clips that share a value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
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

/// The measures of clips whose labels are disputed.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct DisputedClips {
    /// Clips.
    pub clips: u64,
    /// The measures.
    pub measures: Measured,
}

/// What a variant used and what that costs. Warm-up trials are charged as well and count.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct CostSummary {
    /// Currency.
    pub currency: String,
    /// What it costs when nothing was used before this run; tiers and the free allowance are shared with the other
    /// variants of the engine.
    pub cost: f64,
    /// The cost spread over the trials.
    pub per_trial: f64,
}

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
        let mut facts = Facts::of(store, &run, &profile)?;
        let not_measured = own::gather(store, &run, &profile, &mut facts)?;
        let mut sheet = Sheet::load(store, &run.corpus_checksum)?;
        sheet.keys.extend(wanted.keys.iter().cloned());
        let only = wanted.only.clone();
        let r#where = only.as_ref().map(|only| only.condition.clone());
        let variants = Vec::new();
        let mut view = Self { run, variants, scored_under, r#where, not_measured, profile, facts, sheet, only };
        for (place, variant) in view.run.variants.iter().enumerate() {
            let measured = view.measure(store, place, variant.clone(), wanted)?;
            view.variants.push(measured);
        }
        // Tiers and allowances are charged for the whole run.
        let costs = if view.only.is_some() { Vec::new() } else { costs(&view.variants) };
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

    /// The clips that it is restricted to.
    #[must_use]
    pub const fn only(&self) -> Option<&Selection> {
        self.only.as_ref()
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

    /// Where its facts are found.
    pub(crate) const fn facts(&self) -> &Facts {
        &self.facts
    }

    fn measure(
        &self,
        store: &Store,
        place: usize,
        variant: Variant,
        wanted: &Wanted,
    ) -> Result<VariantView, StoreError> {
        let mut all = self.facts.places(store, place)?;
        let extras = match &self.only {
            Some(only) => {
                all.iter_mut().filter(|place| !only.holds(**place)).for_each(|place| *place = APART);
                self.outcomes_of(store, place, &all)?
            }
            None => self.facts.extras(store, place)?,
        };
        let disputed = self.sheet.disputed();
        let apart = |clip: &u32| *clip != APART && disputed.is_some_and(|of_clip| of_clip[*clip as usize] > 0);
        let only = |wanted: bool| -> Vec<u32> {
            all.iter().map(|clip| if apart(clip) == wanted { *clip } else { APART }).collect()
        };
        let places = if disputed.is_some() { only(false) } else { all.clone() };
        let estimating = Estimating {
            store,
            facts: &self.facts,
            sheet: &self.sheet,
            variant: place,
            task: variant.task,
            places: &places,
        };
        let figures = estimating.figures(wanted)?;
        let Figures { clips, measures, slices } = figures;
        let disputed = match disputed.is_some().then(|| only(true)) {
            Some(places) => {
                let of_all = Wanted { slices: false, ..wanted.clone() };
                let Figures { clips, measures, .. } =
                    Estimating { places: &places, ..estimating }.estimated(&of_all)?;
                (clips > 0).then_some(DisputedClips { clips, measures })
            }
            None => None,
        };
        Ok(VariantView { variant, extras, cost: None, clips, measures, slices, disputed, place, places })
    }
}

impl RunView {
    /// What is known of the trials of some clips: how they ended. `places` are the trials' clips, [`APART`] for others.
    fn outcomes_of(&self, store: &Store, variant: usize, places: &[u32]) -> Result<Extras, StoreError> {
        let Some(measure) = find("outcome_nothing") else { return Ok(Extras::default()) };
        let column = self.facts.fact(store, variant, measure.fact)?;
        let mut counts = [0_u64; Outcome::ALL.len()];
        let inside = places.iter().enumerate().filter(|(_, place)| **place != APART);
        for (trial, _) in inside {
            if let Some(outcome) = column.rows(trial).first().and_then(|at| counts.get_mut(*at as usize)) {
                *outcome += 1;
            }
        }
        let outcomes = Outcome::ALL.iter().zip(counts).filter(|(_, trials)| *trials > 0);
        Ok(Extras {
            trials: counts.iter().sum(),
            outcomes: outcomes.map(|(outcome, trials)| OutcomeCount { outcome: *outcome, trials }).collect(),
            ..Extras::default()
        })
    }
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
