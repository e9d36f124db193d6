//! Which variant for which slice, and what choosing by slice would gain over the best single one.

use fonex_core::measures::{Better, Measure, Sample, Units, difference, estimate};
use fonex_core::stats::{Interval, Sides, UnitKind};
use fonex_core::verdict::{DrawnUnit, LEAST_GROUPS, Verdict};
use fonex_store::{Store, StoreError};
use serde::Serialize;

use crate::by_clip::Rows;
use crate::compare::Side;

/// Parts that units are dealt to; each is chosen for by the others.
const FOLDS: usize = 10;
/// The level of the gain's interval.
const ALPHA: f64 = 0.05;

/// The best variant of each slice, and what choosing by slice is worth.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct BestBySlice {
    /// Id of the measure.
    pub measure: String,
    /// What is shared within a slice.
    pub by: String,
    /// Clips that all variants answered and that have a slice.
    pub clips: u64,
    /// The best variant over all clips.
    pub single: String,
    /// Its figure.
    pub single_figure: f64,
    /// By slice.
    pub choices: Vec<Choice>,
    /// The figure when every clip is given to what was best, by the other clips, in its slice.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub chosen_figure: Option<f64>,
    /// The figure when every clip is given to what was best over all the other clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held_out_single: Option<f64>,
    /// The former minus the latter.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gain: Option<f64>,
    /// Its 95 % interval.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Whether choosing by slice is better.
    pub verdict: Verdict,
    /// What was drawn.
    pub unit: DrawnUnit,
}

/// The best variant of a slice.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Choice {
    /// The value shared.
    pub value: String,
    /// Clips.
    pub clips: u64,
    /// The best variant of these clips.
    pub best: String,
    /// Its figure.
    pub figure: f64,
    /// That of the best single variant on these clips.
    pub of_single: f64,
}

/// Which of some variants of one run's corpus is best in each slice. None where no clip is answered by all of them.
///
/// Who is best on some clips looks better there than it is. What choosing is worth is therefore measured on clips that had no
/// say: units are dealt to ten parts, and for each the choice is made by the other nine (cross-validation: Stone,
/// "Cross-validatory choice and assessment of statistical predictions", 1974), for the single best one as well.
///
/// # Errors
/// When the store cannot be read.
pub fn best_by_slice(
    store: &Store,
    sides: &[Side<'_>],
    measure: &'static Measure,
    by: &str,
    unit: Option<DrawnUnit>,
) -> Result<Option<BestBySlice>, StoreError> {
    let sheet = sides[0].run.sheet();
    let Some(key) = sheet.keys.iter().find(|key| key.by == by) else { return Ok(None) };
    let mut rows = Vec::new();
    for side in sides {
        let (column, places) = side.run.fact(store, side.variant, measure.fact)?;
        rows.push(Rows::new(column, places));
    }
    let clips: Vec<u32> = rows[0]
        .clips
        .clips
        .iter()
        .copied()
        .filter(|clip| key.of_clip[*clip as usize] > 0 && rows.iter().all(|rows| rows.has(*clip)))
        .collect();
    if clips.is_empty() {
        return Ok(None);
    }
    let drawn = unit.unwrap_or_else(|| sheet.natural_unit(&clips));
    let units = sheet.units(drawn, &clips);
    let samples: Vec<Sample> = rows.iter().map(|rows| rows.sample(&clips, &units)).collect();
    let slices: Vec<usize> = clips.iter().map(|clip| key.of_clip[*clip as usize] as usize - 1).collect();
    let all: Vec<usize> = (0..clips.len()).collect();
    let best = |places: &[usize]| best_of(measure, &samples, places);
    let Some(single) = best(&all) else { return Ok(None) };
    let figure = |side: usize, places: &[usize]| {
        estimate(measure.estimator, &samples[side].at(places.iter().copied())).map(|figure| figure.value)
    };
    let mut choices = Vec::new();
    for (value, name) in key.values.iter().enumerate() {
        let own: Vec<usize> = all.iter().copied().filter(|at| slices[*at] == value).collect();
        let Some(chosen) = best(&own) else { continue };
        if let (Some(own_figure), Some(of_single)) = (figure(chosen, &own), figure(single, &own)) {
            let (value, best) = (name.clone(), sides[chosen].name());
            choices.push(Choice { value, clips: own.len() as u64, best, figure: own_figure, of_single });
        }
    }
    let held_out = held_out(measure, &rows, &clips, &units, &samples, &slices, key.values.len());
    let gain = held_out.as_ref().and_then(|[one, other]| difference(measure.estimator, one, other));
    let enough = units.kind == UnitKind::Clip || u64::from(units.count) >= LEAST_GROUPS;
    let interval = gain.as_ref().filter(|_| enough).and_then(|gain| gain.interval(ALPHA, Sides::Together));
    let sure = interval.as_ref().is_some_and(Interval::excludes_zero);
    let off = gain.as_ref().map(|gain| gain.difference);
    Ok(Some(BestBySlice {
        measure: measure.id.to_owned(),
        by: by.to_owned(),
        clips: clips.len() as u64,
        single: sides[single].name(),
        single_figure: figure(single, &all).unwrap_or(f64::NAN),
        choices,
        chosen_figure: gain.as_ref().map(|gain| gain.second),
        held_out_single: gain.as_ref().map(|gain| gain.first),
        gain: off,
        interval,
        verdict: off.filter(|_| sure).map_or(Verdict::CannotTell, |off| Verdict::of(measure.better, off)),
        unit: drawn,
    }))
}

/// The side with the best figure on some clips; the earlier of two that are alike.
fn best_of(measure: &Measure, samples: &[Sample], places: &[usize]) -> Option<usize> {
    let figures = samples.iter().enumerate().filter_map(|(side, sample)| {
        Some((side, estimate(measure.estimator, &sample.at(places.iter().copied()))?.value))
    });
    let better = |one: f64, other: f64| match measure.better {
        Better::Higher => one > other,
        Better::Lower | Better::Neither => one < other,
    };
    figures.reduce(|best, next| if better(next.1, best.1) { next } else { best }).map(|(side, _)| side)
}

/// The rows of what is chosen for each clip by clips of other parts: the single best one, and the best of its slice.
fn held_out(
    measure: &'static Measure,
    rows: &[Rows],
    clips: &[u32],
    units: &Units,
    samples: &[Sample],
    slices: &[usize],
    values: usize,
) -> Option<[Sample; 2]> {
    let fold = |at: usize| units.of_clip[at] as usize % FOLDS;
    let mut chosen: Vec<[usize; 2]> = vec![[0; 2]; clips.len()];
    for part in 0..FOLDS {
        let others: Vec<usize> = (0..clips.len()).filter(|at| fold(*at) != part).collect();
        let single = best_of(measure, samples, &others)?;
        let of_slice: Vec<usize> = (0..values)
            .map(|value| {
                let own: Vec<usize> = others.iter().copied().filter(|at| slices[*at] == value).collect();
                // A slice of which nothing else is known is given to the single best one.
                best_of(measure, samples, &own).unwrap_or(single)
            })
            .collect();
        for at in (0..clips.len()).filter(|at| fold(*at) == part) {
            chosen[at] = [single, of_slice[slices[at]]];
        }
    }
    let width = rows[0].column.width;
    let mut both = [0, 1].map(|_| Sample::new(width, units.kind));
    for (at, clip) in clips.iter().enumerate() {
        for (sample, side) in both.iter_mut().zip(chosen[at]) {
            rows[side].add(sample, units.of_clip[at], *clip);
        }
    }
    Some(both)
}
