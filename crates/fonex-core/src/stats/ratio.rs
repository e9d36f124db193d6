//! Scores of ratios of sums, alone and in pairs.

use super::{Reach, Scores, UnitKind, UnitScore};

/// A unit's part of a ratio, and how many units have the same.
pub type RatioKind = ([f64; 2], f64);

/// The scores of A / B with one unit's parts (a, b) in each kind. `bounds` are the least and the greatest ratio a single
/// unit can have: 0 and 1 for an error rate, whose worst unit is lost whole. None without a denominator or for fewer than
/// two units.
#[must_use]
pub fn ratio_scores(kinds: &[RatioKind], unit: UnitKind, bounds: (f64, f64)) -> Option<Scores> {
    let (a, b, units) = kinds.iter().fold((0.0, 0.0, 0.0), |(a, b, n), ([x, y], m)| (a + m * x, b + m * y, n + m));
    if b <= 0.0 {
        return None;
    }
    let (estimate, mean) = (a / b, b / units);
    let score = |[x, y]: [f64; 2], times: f64| UnitScore {
        score: estimate + (x - estimate * y) / mean,
        weight: y / mean,
        times,
    };
    let scores: Vec<UnitScore> = kinds.iter().map(|(parts, times)| score(*parts, *times)).collect();
    let worst = Reach { below: (estimate - bounds.0).max(0.0), above: (bounds.1 - estimate).max(0.0) };
    let mut reach = Reach::seen(&scores, estimate, unit, worst);
    // What single words going wrong by themselves would do to a clip of this length.
    let scatter = 3.0 * (estimate * (1.0 - estimate).max(0.0) / mean.max(1.0)).max(0.0).sqrt();
    reach = reach.wider(Reach { below: scatter.min(worst.below), above: scatter.min(worst.above) });
    Scores::new(estimate, scores, reach)
}

/// The same unit's parts of two ratios, first a, first b, second a, second b, and how many units have the same.
pub type PairKind = ([f64; 4], f64);

/// The scores of the difference second minus first of two ratios over the same units.
#[must_use]
pub fn ratio_difference_scores(kinds: &[PairKind], unit: UnitKind, range: f64) -> Option<Scores> {
    let mut sums = [0.0; 4];
    let mut units = 0.0;
    for (parts, m) in kinds {
        sums.iter_mut().zip(parts).for_each(|(sum, part)| *sum += m * part);
        units += m;
    }
    let [a1, b1, a2, b2] = sums;
    if b1 <= 0.0 || b2 <= 0.0 {
        return None;
    }
    let (first, second) = (a1 / b1, a2 / b2);
    let difference = second - first;
    let score = |[x1, y1, x2, y2]: [f64; 4]| {
        difference + (x2 - second * y2) / (b2 / units) - (x1 - first * y1) / (b1 / units)
    };
    let weight = |[_, y1, _, y2]: [f64; 4]| (y1 / b1).max(y2 / b2) * units;
    let scores: Vec<UnitScore> = kinds
        .iter()
        .map(|(parts, times)| UnitScore { score: score(*parts), weight: weight(*parts), times: *times })
        .collect();
    let reach = Reach::of_difference(&scores, difference, unit, range);
    Scores::new(difference, scores, reach)
}
