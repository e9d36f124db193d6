//! Scores of ratios and smooth functions of sums, unit by unit.

use super::{Estimator, area, gaps, spread};
use crate::Table;
use crate::measures::Sample;
use crate::stats::{Reach, Scores, UnitKind, UnitScore};

/// An estimate and the influence of each unit on it.
#[derive(Debug, Clone)]
pub(super) struct Linear {
    pub(super) estimate: f64,
    /// By the number of the unit: its influence, scaled to the units that have one; none for a unit without rows.
    pub(super) by_unit: Vec<Option<f64>>,
    /// By the number of the unit: its size over the mean size; none where sizes do not matter.
    weights: Option<Vec<f64>>,
    /// How many units are alike in each, where clips were tallied.
    times: Option<Vec<f64>>,
    /// The least and the greatest figure there can be.
    pub(super) limits: (f64, f64),
    /// The least and the greatest figure of a single unit.
    bounds: (f64, f64),
    /// Units beyond which no unit may scatter by single words alone.
    scatter: f64,
}

impl Linear {
    pub(super) fn new(estimate: f64, by_unit: Vec<Option<f64>>, limits: (f64, f64)) -> Self {
        Self { estimate, by_unit, weights: None, times: None, limits, bounds: limits, scatter: 0.0 }
    }

    fn times(&self, unit: usize) -> f64 {
        self.times.as_ref().map_or(1.0, |times| times[unit])
    }

    fn weight(&self, unit: usize) -> f64 {
        self.weights.as_ref().map_or(1.0, |weights| weights.get(unit).copied().unwrap_or(0.0))
    }

    pub(super) fn units(&self) -> u64 {
        let present = self.by_unit.iter().enumerate().filter(|(_, influence)| influence.is_some());
        present.map(|(unit, _)| self.times(unit)).sum::<f64>() as u64
    }

    /// The score of each unit among `total` units, some of which add nothing here. The units are counted once, not once a unit.
    pub(super) fn score_among(&self, total: f64) -> impl Fn(usize) -> f64 {
        let units = self.units() as f64;
        move |unit| {
            let influence = self.by_unit.get(unit).copied().flatten().unwrap_or(0.0);
            self.estimate + influence * total / units
        }
    }

    fn kinds(&self) -> Vec<UnitScore> {
        grouped(self.by_unit.iter().enumerate().filter_map(|(unit, influence)| {
            Some((self.estimate + (*influence)?, self.weight(unit), self.times(unit)))
        }))
    }

    pub(super) fn scores(&self, kind: UnitKind) -> Option<Scores> {
        let kinds = self.kinds();
        let (least, greatest) = self.bounds;
        let worst = Reach { below: (self.estimate - least).max(0.0), above: (greatest - self.estimate).max(0.0) };
        let seen = Reach::seen(&kinds, self.estimate, kind, worst);
        let scatter = Reach { below: self.scatter.min(worst.below), above: self.scatter.min(worst.above) };
        Scores::new(self.estimate, kinds, seen.wider(scatter))
    }
}

/// Merges equal (score, weight) pairs, in order; the third number counts units.
fn grouped(scores: impl Iterator<Item = (f64, f64, f64)>) -> Vec<UnitScore> {
    let mut kinds: Table<[u64; 2], f64> = Table::default();
    scores.for_each(|(score, weight, times)| *kinds.entry([score.to_bits(), weight.to_bits()]).or_default() += times);
    let unit = |([score, weight], times): ([u64; 2], f64)| UnitScore {
        score: f64::from_bits(score),
        weight: f64::from_bits(weight),
        times,
    };
    let mut kinds: Vec<UnitScore> = kinds.into_iter().map(unit).collect();
    kinds.sort_by(|a, b| a.score.total_cmp(&b.score).then(a.weight.total_cmp(&b.weight)));
    kinds
}

/// The largest difference between the two figures of a single unit.
pub(super) fn range(first: &Linear, second: &Linear) -> f64 {
    second.bounds.1.max(first.bounds.1) - second.bounds.0.min(first.bounds.0)
}

/// The scores of the difference of two estimates over the same units, second minus first.
pub(super) fn difference(first: &Linear, second: &Linear, kind: UnitKind) -> Option<Scores> {
    let units = first.by_unit.len().max(second.by_unit.len());
    let has = |one: &Linear, unit: usize| one.by_unit.get(unit).is_some_and(Option::is_some);
    let present: Vec<usize> = (0..units).filter(|unit| has(first, *unit) || has(second, *unit)).collect();
    let total = present.len() as f64;
    let estimate = second.estimate - first.estimate;
    let (of_first, of_second) = (first.score_among(total), second.score_among(total));
    let score = |unit: &usize| of_second(*unit) - of_first(*unit);
    let weight = |unit: &usize| first.weight(*unit).max(second.weight(*unit));
    let kinds = grouped(present.iter().map(|unit| (score(unit), weight(unit), 1.0)));
    let reach = Reach::of_difference(&kinds, estimate, kind, range(first, second));
    Scores::new(estimate, kinds, reach)
}

fn mean(sample: &Sample) -> Option<Linear> {
    ratio(sample, |row| row[0], |_| 1.0, (f64::NEG_INFINITY, f64::INFINITY), f64::INFINITY)
}

/// The mean of numbers, one row a clip, and the score of each unit that has one.
pub(super) fn mean_by_unit(sample: &Sample) -> Option<(f64, Vec<f64>)> {
    let mean = mean(sample)?;
    let scores = mean.by_unit.iter().flatten().map(|own| mean.estimate + own).collect();
    Some((mean.estimate, scores))
}

/// The scores of the mean of differences, one row a clip.
pub(super) fn mean_difference(differences: &Sample) -> Option<Scores> {
    let mean = mean(differences)?;
    let kinds = mean.kinds();
    let reach = Reach::of_difference(&kinds, mean.estimate, differences.kind, f64::INFINITY);
    Scores::new(mean.estimate, kinds, reach)
}

/// The scores of an estimator that has some; none for quantiles and slopes, which have their own ways.
pub(super) fn linear(estimator: Estimator, sample: &Sample) -> Option<Linear> {
    match estimator {
        Estimator::Ratio { part, whole, bounds, most } => ratio(sample, part, whole, bounds, most),
        Estimator::Smooth(of) => smooth(sample, of),
        Estimator::Gaps => gaps::linear(sample),
        Estimator::Area => area::linear(sample),
        Estimator::Spread(of) => spread::within(sample, of),
        Estimator::Scatter(of) => spread::between(sample, of),
        Estimator::Quantile(..) | Estimator::Median(..) | Estimator::Slope => None,
    }
}

/// Weighted sums of what `of` gives for each row, by unit; none for units without rows.
pub(super) fn sums_by_unit<const K: usize>(
    sample: &Sample,
    of: impl Fn(&[f64]) -> [f64; K],
) -> Vec<Option<[f64; K]>> {
    let units = sample.unit.iter().max().map_or(0, |unit| *unit as usize + 1);
    let mut sums: Vec<Option<[f64; K]>> = vec![None; units];
    sample.each_row(|clip, row, weight| {
        let sum = sums[sample.unit[clip] as usize].get_or_insert([0.0; K]);
        sum.iter_mut().zip(of(row)).for_each(|(sum, part)| *sum += weight * part);
    });
    sums
}

fn ratio(sample: &Sample, part: super::Part, whole: super::Part, bounds: (f64, f64), most: f64) -> Option<Linear> {
    let sums = sums_by_unit(sample, |row| [part(row), whole(row)]);
    let times = |unit: usize| if sample.times.is_some() { sample.times_of(unit) } else { 1.0 };
    let (mut all, mut units) = ([0.0; 2], 0.0);
    for (unit, sum) in sums.iter().enumerate() {
        if let Some([a, b]) = sum {
            all = [all[0] + a * times(unit), all[1] + b * times(unit)];
            units += times(unit);
        }
    }
    if all[1] <= 0.0 {
        return None;
    }
    let (estimate, mean) = (all[0] / all[1], all[1] / units);
    // How far single rows that go wrong by themselves scatter a unit of this size.
    let scatter =
        if bounds.1.is_finite() { 3.0 * (estimate * (1.0 - estimate).max(0.0) / mean.max(1.0)).sqrt() } else { 0.0 };
    Some(Linear {
        estimate,
        by_unit: sums.iter().map(|sum| sum.map(|[a, b]| (a - estimate * b) / mean)).collect(),
        weights: Some(sums.iter().map(|sum| sum.map_or(0.0, |[_, b]| b / mean)).collect()),
        times: sample.times.clone(),
        limits: (bounds.0, most),
        bounds,
        scatter,
    })
}

fn smooth(sample: &Sample, of: fn(&[f64]) -> Option<f64>) -> Option<Linear> {
    const MOST: usize = 4;
    debug_assert!(sample.width <= MOST);
    let sums =
        sums_by_unit(sample, |row| std::array::from_fn::<f64, MOST, _>(|i| row.get(i).copied().unwrap_or(0.0)));
    let times = |unit: usize| if sample.times.is_some() { sample.times_of(unit) } else { 1.0 };
    let (mut all, mut units) = ([0.0; MOST], 0.0);
    for (unit, sum) in sums.iter().enumerate() {
        if let Some(sum) = sum {
            all.iter_mut().zip(sum).for_each(|(all, own)| *all += own * times(unit));
            units += times(unit);
        }
    }
    let estimate = of(&all)?;
    let mean = all.map(|sum| sum / units);
    let slope = |at: usize| {
        let step = (mean.iter().sum::<f64>() * 1e-5).max(1e-9);
        let moved = |by: f64| {
            let mut sums = mean;
            sums[at] += by;
            of(&sums).unwrap_or(estimate)
        };
        (moved(step) - moved(-step)) / (2.0 * step)
    };
    let gradient: [f64; MOST] = std::array::from_fn(slope);
    let influence = |sum: [f64; MOST]| (0..MOST).map(|i| gradient[i] * (sum[i] - mean[i])).sum::<f64>();
    let by_unit: Vec<Option<f64>> = sums.iter().map(|sum| sum.map(influence)).collect();
    Some(Linear {
        estimate,
        by_unit,
        weights: None,
        times: sample.times.clone(),
        limits: (0.0, 1.0),
        bounds: (0.0, 1.0),
        scatter: 0.0,
    })
}
