//! Scores of ratios of sums, alone and in pairs.

use super::{Reach, Scores, UnitKind};

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
    let scores: Vec<(f64, f64)> =
        kinds.iter().map(|([x, y], m)| (estimate + (x - estimate * y) / mean, *m)).collect();
    // Near one bound what counts is how many units are off it.
    let near_low = estimate - bounds.0 <= bounds.1 - estimate;
    let is_off = |[x, y]: [f64; 2]| if near_low { x > bounds.0 * y } else { x < bounds.1 * y };
    let off: f64 = kinds.iter().filter(|(parts, _)| is_off(*parts)).map(|(_, m)| m).sum();
    let worst = Reach { below: (estimate - bounds.0).max(0.0), above: (bounds.1 - estimate).max(0.0) };
    let mut reach = Reach::seen(&scores, estimate, unit, off, worst);
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
    let scores: Vec<(f64, f64)> = kinds.iter().map(|(parts, m)| (score(*parts), *m)).collect();
    let off: f64 = kinds.iter().filter(|([x1, _, x2, _], _)| x1 != x2).map(|(_, m)| m).sum();
    let reach = Reach::seen(&scores, difference, unit, off, Reach { below: range, above: range });
    // Either side may have the clips that the other showed.
    let most = reach.below.max(reach.above);
    Scores::new(difference, scores, Reach { below: most, above: most })
}
