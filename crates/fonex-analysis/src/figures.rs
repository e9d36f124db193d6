//! What is estimated of one variant: every measure that is wanted, over all clips and by slice.

use fonex_core::accuracy::{LENGTH, LENGTH_BANDS as BANDS, Measured};
use fonex_core::measures::{ESTIMATORS_VERSION, Measure, Sample, all, estimate, find};
use fonex_core::{Task, in_parallel};
use fonex_formats::checksum;
use fonex_store::{Store, StoreError};
use serde::{Deserialize, Serialize};

use crate::by_clip::ByClip;
use crate::facts::Facts;
use crate::selection::Selection;
use crate::sheet::{Sheet, SliceKey};
use crate::view::SliceView;

/// How much of a run is measured.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Only these measures; all of them where it is empty.
    pub measures: Vec<&'static Measure>,
    /// Whether slices are measured too.
    pub slices: bool,
    /// What slices hold of a variant with more than [`MANY_TRIALS`] trials, which take long; everything where it is empty.
    pub slices_of_many: Vec<&'static Measure>,
    /// Only these clips; all where there is none.
    pub only: Option<Selection>,
    /// Slices by further keys than the corpus holds, such as two tags crossed.
    pub keys: Vec<SliceKey>,
}

/// Trials of a variant beyond which every measure of every slice takes more than a few seconds.
pub const MANY_TRIALS: usize = 50_000;

impl Wanted {
    /// Under which name its figures are kept: another for every other set of measures.
    fn name(&self) -> String {
        // A measure of one's own is known by its fact, which names its definition.
        let of = |measure: &Measure| format!("{} {}", measure.id, measure.fact.kept_as());
        let ids = |measures: &[&'static Measure]| measures.iter().map(|m| of(m)).collect::<Vec<_>>().join(",");
        let all = if self.measures.is_empty() { ids(&all().collect::<Vec<_>>()) } else { String::new() };
        let asked = [ids(&self.measures), all, self.slices.to_string(), ids(&self.slices_of_many)].join("/");
        format!("figures/{ESTIMATORS_VERSION}/{}", checksum::of_bytes(asked.as_bytes()))
    }
}

/// What is estimated of a variant, as it is kept beside its facts.
#[derive(Debug, Serialize, Deserialize, schemars::JsonSchema)]
pub(crate) struct Figures {
    pub(crate) clips: u64,
    pub(crate) measures: Measured,
    pub(crate) slices: Vec<SliceView>,
}

/// A variant whose measures are estimated.
pub(crate) struct Estimating<'v> {
    pub(crate) store: &'v Store,
    pub(crate) facts: &'v Facts,
    pub(crate) sheet: &'v Sheet,
    pub(crate) variant: usize,
    pub(crate) task: Task,
    /// The place of each trial's clip.
    pub(crate) places: &'v [u32],
}

/// A slice's name, value and clips, by their places among the variant's.
struct Members<'v> {
    by: &'v str,
    value: &'v str,
    clips: Vec<usize>,
}

impl Estimating<'_> {
    /// The figures wanted: kept ones, or else estimated now and kept.
    pub(crate) fn figures(&self, wanted: &Wanted) -> Result<Figures, StoreError> {
        if wanted.only.is_some() || !wanted.keys.is_empty() {
            return self.estimated(wanted);
        }
        self.facts.kept_or_made(self.store, self.variant, wanted.name(), || self.estimated(wanted))
    }

    pub(crate) fn estimated(&self, wanted: &Wanted) -> Result<Figures, StoreError> {
        let by_clip = ByClip::new(self.places);
        let members = if wanted.slices { self.slices(&by_clip)? } else { Vec::new() };
        let mut measures = Measured::default();
        let mut slices: Vec<Measured> = vec![Measured::default(); members.len()];
        let many = self.places.len() > MANY_TRIALS && !wanted.slices_of_many.is_empty();
        let names = |list: &[&Measure], measure: &Measure| list.iter().any(|other| other.id == measure.id);
        let mut asked: Vec<&'static Measure> = all().filter(|m| m.tasks.contains(&self.task)).collect();
        asked.retain(|measure| wanted.measures.is_empty() || names(&wanted.measures, measure));
        // Fact by fact, so that one column is in memory at a time.
        while let Some(fact) = asked.first().map(|measure| measure.fact) {
            let (own, rest): (Vec<_>, Vec<_>) = asked.into_iter().partition(|measure| measure.fact.id == fact.id);
            asked = rest;
            let sample = by_clip.sample(&self.facts.fact(self.store, self.variant, fact)?);
            if sample.is_empty() {
                continue;
            }
            measured(&mut measures, &own, &sample);
            let own: Vec<_> = own.into_iter().filter(|m| !many || names(&wanted.slices_of_many, m)).collect();
            if own.is_empty() {
                continue;
            }
            let of_slices = in_parallel(&members, |members| {
                let mut figures = Measured::default();
                measured(&mut figures, &own, &sample.at(members.clips.iter().copied()));
                figures
            });
            slices.iter_mut().zip(of_slices).for_each(|(slice, figures)| slice.extend(figures));
        }
        let slices = members.into_iter().zip(slices).map(|(members, measures)| SliceView {
            by: members.by.to_owned(),
            value: members.value.to_owned(),
            clips: members.clips.len() as u64,
            measures,
        });
        Ok(Figures { clips: by_clip.clips.len() as u64, measures, slices: slices.collect() })
    }

    /// What the variant's clips share; only where a key has several values.
    fn slices(&self, by_clip: &ByClip) -> Result<Vec<Members<'_>>, StoreError> {
        let mut slices = Vec::new();
        for key in &self.sheet.keys {
            let mut clips: Vec<Vec<usize>> = vec![Vec::new(); key.values.len()];
            for (at, clip) in by_clip.clips.iter().enumerate() {
                if let Some(value) = (key.of_clip[*clip as usize] as usize).checked_sub(1) {
                    clips[value].push(at);
                }
            }
            slices.extend(several(&key.by, key.values.iter().map(String::as_str).zip(clips)));
        }
        if self.task == Task::Hear && self.sheet.keys.iter().all(|key| key.by != LENGTH) {
            slices.extend(several(LENGTH, BANDS.iter().map(|band| band.1).zip(self.by_length(by_clip)?)));
        }
        Ok(slices)
    }

    /// The clips in each of the [`BANDS`], by the words that the text profile leaves of their labels.
    fn by_length(&self, by_clip: &ByClip) -> Result<[Vec<usize>; BANDS.len()], StoreError> {
        let mut clips: [Vec<usize>; BANDS.len()] = Default::default();
        let Some(measure) = find("wer_failures_as_empty") else { return Ok(clips) };
        let words = self.facts.fact(self.store, self.variant, measure.fact)?;
        for at in 0..by_clip.clips.len() {
            let said = by_clip.at(at).iter().find_map(|trial| match words.rows(*trial as usize) {
                [correct, substituted, deleted, _] => Some(correct + substituted + deleted),
                _ => None,
            });
            let said = said.unwrap_or_default();
            clips[BANDS.iter().position(|(most, _)| said as u64 <= *most).unwrap_or(BANDS.len() - 1)].push(at);
        }
        Ok(clips)
    }
}

/// The slices that have clips, where they are more than one.
fn several<'v>(by: &'v str, slices: impl Iterator<Item = (&'v str, Vec<usize>)>) -> Vec<Members<'v>> {
    let slices = slices.filter(|(_, clips)| !clips.is_empty());
    let slices: Vec<Members<'v>> = slices.map(|(value, clips)| Members { by, value, clips }).collect();
    if slices.len() > 1 { slices } else { Vec::new() }
}

fn measured(figures: &mut Measured, measures: &[&'static Measure], sample: &Sample) {
    for measure in measures {
        if let Some(estimate) = estimate(measure.estimator, sample) {
            figures.insert(measure, estimate);
        }
    }
}
