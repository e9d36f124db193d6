//! Whether and since when a series of runs changed: each run is looked at once, with the runs before it, and a verdict once
//! given stands.

use serde::{Deserialize, Serialize};

use crate::measures::SeriesScores;
use crate::stats::{Interval, Reach, Scores, Sides, UnitKind, UnitScore};

/// A change of a series.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Change {
    /// Place of the first run after the change, as far as it was known when the change was found.
    pub from: usize,
    /// Place of the run at which it was found.
    pub told_at: usize,
    /// From the runs before to the runs since; of a creep from the first run to the last.
    pub difference: f64,
    /// Its interval, at the level spent on this look.
    pub interval: Option<Interval>,
    /// How it came.
    pub shape: ChangeShape,
}

/// How a change came.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ChangeShape {
    /// From one run to the next.
    Step,
    /// Little by little.
    Creep,
}

/// The level spent over the looks of an unchanged series of any length.
///
/// Look n (the second run is the first look) gets a constant / ((n + 1) ln²(n + 1)), a series whose sum is finite: 0.02 for
/// steps, 0.08 for creeps. Looks share most of their runs, so that the chance of a false alarm over all of them is far below the
/// sum of what each spends; the constants were set by simulation (`benches/promises.rs`) so that it stays under 5 % for every
/// kind of estimator. The count of looks continues after a change, so that the level does not start afresh.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Looks;

const SPENT_ON_STEPS: f64 = 0.02;
const SPENT_ON_CREEPS: f64 = 0.08;

impl Looks {
    /// The level of the look at the run with this place among those that can be compared, for one shape of change.
    #[must_use]
    pub fn level(place: usize, shape: ChangeShape) -> f64 {
        let n = place as f64 + 1.0;
        let spent = match shape {
            ChangeShape::Step => SPENT_ON_STEPS,
            ChangeShape::Creep => SPENT_ON_CREEPS,
        };
        spent / (n * n.ln().powi(2))
    }
}

/// Runs from which on a creep is asked about.
const LEAST_CREEP: usize = 5;

/// Looks at the last run of a segment, with all before it in that segment. `series` holds the segment's runs only; `before` counts
/// the comparable runs ahead of the segment.
///
/// Asked are the last 1, 2, 4, 8, ... runs against those before them, and the slope over all; each is a contrast over runs whose
/// scores by unit are tested as a paired difference is (likelihood-ratio scans for change points go back to Page,
/// "Continuous inspection schemes", 1954; spending a level over looks to Lan and DeMets, "Discrete sequential boundaries for
/// clinical trials", 1983).
#[must_use]
pub fn look(series: &SeriesScores, before: usize) -> Option<Change> {
    let runs = series.values.len();
    if runs < 2 {
        return None;
    }
    let last = runs - 1;
    let windows: Vec<usize> = std::iter::successors(Some(1), |w| Some(w * 2)).take_while(|w| *w < runs).collect();
    let each = Looks::level(before + last, ChangeShape::Step) / windows.len() as f64;
    let creep_level = Looks::level(before + last, ChangeShape::Creep);
    let steps = windows.iter().map(|window| (runs - window, each, ChangeShape::Step));
    let candidates = steps.chain((runs >= LEAST_CREEP).then_some((0, creep_level, ChangeShape::Creep)));
    let mut best: Option<(f64, Change)> = None;
    // Ignores rounding errors of equal figures.
    let rounding = 1e-12 * series.tested.iter().fold(0.0_f64, |most, value| most.max(value.abs()));
    for (from, level, shape) in candidates {
        let weights = contrast(runs, from, shape);
        let Some(scores) = scores(series, &weights).filter(|scores| scores.estimate().abs() > rounding) else {
            continue;
        };
        let p = scores.p_value(0.0, Sides::Together);
        if p < level && best.as_ref().is_none_or(|(least, _)| p / level < *least) {
            let difference = weights.iter().zip(&series.values).map(|(weight, value)| weight * value).sum();
            let interval = Some(scores.interval(level, Sides::Together));
            let from = from.max(1);
            best = Some((p / level, Change { from, told_at: last, difference, interval, shape }));
        }
    }
    let (_, mut change) = best?;
    let split = best_split(&series.values);
    if change.shape == ChangeShape::Creep
        && left_over_by_split(&series.values, split) < left_over_by_line(&series.values)
    {
        // The slope told that something changed; a step says better what.
        change.shape = ChangeShape::Step;
    }
    if change.shape == ChangeShape::Step {
        // The published figures belong to the best split, whichever window detected the change.
        let weights = contrast(runs, split, ChangeShape::Step);
        change.from = split;
        change.difference = weights.iter().zip(&series.values).map(|(weight, value)| weight * value).sum();
        change.interval = scores(series, &weights).map(|scores| scores.interval(each, Sides::Together));
    }
    change.interval = change.interval.filter(|_| series.tested == series.values);
    Some(change)
}

/// The weights of the runs: the later ones against the earlier ones, or the slope times the length.
fn contrast(runs: usize, from: usize, shape: ChangeShape) -> Vec<f64> {
    match shape {
        ChangeShape::Step => {
            let (before, since) = (from as f64, (runs - from) as f64);
            (0..runs).map(|run| if run < from { -before.recip() } else { since.recip() }).collect()
        }
        ChangeShape::Creep => {
            let centre = (runs as f64 - 1.0) / 2.0;
            let spread: f64 = (0..runs).map(|run| (run as f64 - centre).powi(2)).sum();
            (0..runs).map(|run| (run as f64 - centre) / spread * (runs as f64 - 1.0)).collect()
        }
    }
}

fn scores(series: &SeriesScores, weights: &[f64]) -> Option<Scores> {
    let units = series.scores.first()?.len();
    let estimate: f64 = weights.iter().zip(&series.tested).map(|(weight, value)| weight * value).sum();
    let score = |unit: usize| weights.iter().zip(&series.scores).map(|(weight, run)| weight * run[unit]).sum::<f64>();
    let kinds: Vec<UnitScore> = (0..units).map(|unit| UnitScore::new(score(unit), 1.0)).collect();
    // The farthest any unit came from its run's figure, in any run: it may do so in the run that weighs most.
    let farthest = series
        .scores
        .iter()
        .zip(&series.tested)
        .flat_map(|(run, value)| run.iter().map(move |score| (score - value).abs()))
        .fold(0.0, f64::max);
    let heaviest = weights.iter().fold(0.0_f64, |most, weight| most.max(weight.abs()));
    // A tenth of the way to the worst possible: each run shows more of what a unit can do.
    let seen = kinds.iter().fold(0.0_f64, |most, unit| most.max((unit.score - estimate).abs()));
    let worst = if series.range.is_finite() { series.range } else { 2.0 * seen };
    let mut most = (seen + (worst - seen).max(0.0) * 0.1).max(farthest * heaviest);
    if series.kind == UnitKind::Clip && series.range.is_finite() {
        most = most.max(0.6 * 2.0 * series.range / weights.len() as f64);
    }
    Scores::new(estimate, kinds, Reach { below: most, above: most })
}

/// The place that parts the runs best into two levels, by the squares left over.
fn best_split(values: &[f64]) -> usize {
    let by_squares = |a: &usize, b: &usize| left_over_by_split(values, *a).total_cmp(&left_over_by_split(values, *b));
    (1..values.len()).min_by(by_squares).unwrap_or(1)
}

/// Squares left over beside two levels.
fn left_over_by_split(values: &[f64], split: usize) -> f64 {
    let off = |part: &[f64]| {
        let mean = part.iter().sum::<f64>() / part.len() as f64;
        part.iter().map(|value| (value - mean).powi(2)).sum::<f64>()
    };
    off(&values[..split]) + off(&values[split..])
}

/// Squares left over beside a straight line, which has as many parameters as two levels.
fn left_over_by_line(values: &[f64]) -> f64 {
    let weights = contrast(values.len(), 0, ChangeShape::Creep);
    let rise: f64 = weights.iter().zip(values).map(|(weight, value)| weight * value).sum();
    let each = rise / (values.len() as f64 - 1.0);
    let mean = values.iter().sum::<f64>() / values.len() as f64;
    let centre = (values.len() as f64 - 1.0) / 2.0;
    values.iter().enumerate().map(|(at, value)| (value - mean - each * (at as f64 - centre)).powi(2)).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A series of clips of ten words, with this many of a hundred clips wrong in one word, run by run.
    fn series(wrong: &[usize]) -> SeriesScores {
        let scores = wrong.iter().map(|n| (0..100).map(|clip| if clip < *n { 0.1 } else { 0.0 }).collect());
        let values: Vec<f64> = wrong.iter().map(|n| *n as f64 / 1_000.0).collect();
        SeriesScores { tested: values.clone(), values, scores: scores.collect(), kind: UnitKind::Clip, range: 1.0 }
    }

    #[test]
    fn a_step_a_creep_and_nothing() {
        let step = look(&series(&[10, 11, 10, 9, 10, 11, 60, 61]), 0).unwrap();
        assert_eq!((step.from, step.shape), (6, ChangeShape::Step));
        assert!((step.difference - 0.0503).abs() < 1e-3, "{step:?}");
        let creep = look(&series(&[10, 16, 22, 28, 34, 40, 46, 52, 58, 64]), 0).unwrap();
        assert_eq!(creep.shape, ChangeShape::Creep);
        assert!((creep.difference - 0.054).abs() < 1e-3, "{creep:?}");
        assert_eq!(look(&series(&[10, 12, 9, 11, 10, 12, 11]), 0), None);
        assert_eq!(look(&series(&[10]), 0), None);
    }

    #[test]
    fn what_is_spent_has_an_end() {
        for shape in [ChangeShape::Step, ChangeShape::Creep] {
            let spent: f64 = (1..100_000).map(|place| Looks::level(place, shape)).sum();
            let further: f64 = (100_000..200_000).map(|place| Looks::level(place, shape)).sum();
            assert!(further < 0.01 * spent, "{spent} {further}");
        }
    }
}
