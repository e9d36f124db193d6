//! The mean absolute gap between two sums over bins, such as confidence and truth, with the part that chance adds taken off.

use super::linear::{Linear, sums_by_unit};
use crate::measures::Sample;

/// Bins at most.
const BINS: usize = 10;

/// An absolute gap is never below zero, so that chance alone makes one: with n words in a bin about 0.8 sqrt(c (1 - c) / n).
/// In each bin the gap is taken whose folded normal mean is the one seen (Leone, Nelson and Nottingham, "The folded normal
/// distribution", 1961), with the spread between units.
pub(super) fn linear(sample: &Sample) -> Option<Linear> {
    let bin = |row: &[f64]| ((row[0] * BINS as f64) as usize).min(BINS - 1);
    let gap = |row: &[f64], at: usize| if bin(row) == at { row[0] - row[1] } else { 0.0 };
    let gaps = sums_by_unit(sample, |row| std::array::from_fn::<f64, BINS, _>(|at| gap(row, at)));
    let counts = sums_by_unit(sample, |_| [1.0]);
    let units = gaps.iter().flatten().count() as f64;
    let words: f64 = counts.iter().flatten().map(|[n]| n).sum();
    if words <= 0.0 {
        return None;
    }
    let (mut raw, mut corrected, mut signs) = (0.0, 0.0, [0.0; BINS]);
    for at in 0..BINS {
        let sum: f64 = gaps.iter().flatten().map(|gaps| gaps[at]).sum();
        let mean = sum / units;
        let variance: f64 = gaps.iter().flatten().map(|gaps| (gaps[at] - mean).powi(2)).sum::<f64>();
        let spread = (variance * units / (units - 1.0).max(1.0)).sqrt();
        signs[at] = if sum < 0.0 { -1.0 } else { 1.0 };
        raw += sum.abs();
        corrected += unfolded(sum.abs(), spread);
    }
    let (raw, estimate, mean_words) = (raw / words, corrected / words, words / units);
    let influence = |gaps: &[f64; BINS], words: f64| {
        (gaps.iter().zip(signs).map(|(gap, sign)| gap * sign).sum::<f64>() - raw * words) / mean_words
    };
    let by_unit =
        gaps.iter().zip(&counts).map(|(gaps, count)| Some(influence(gaps.as_ref()?, count.as_ref()?[0]))).collect();
    Some(Linear::new(estimate, by_unit, (0.0, 1.0)))
}

/// The size m of a mean for which the absolute value of a normal variable around it has the mean `seen`.
fn unfolded(seen: f64, spread: f64) -> f64 {
    let folded = |m: f64| {
        let z = m / spread;
        spread * (2.0 / std::f64::consts::PI).sqrt() * (-z * z / 2.0).exp()
            + m * libm::erf(z / std::f64::consts::SQRT_2)
    };
    if spread <= 0.0 || seen >= 6.0 * spread {
        return seen;
    }
    if seen <= folded(0.0) {
        return 0.0;
    }
    let (mut low, mut high) = (0.0, seen);
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        if folded(middle) < seen { low = middle } else { high = middle }
    }
    low
}
