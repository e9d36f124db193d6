//! Paired tests between two variants that were given the same clips.

use rand_distr::{Binomial, Distribution};
use serde::{Deserialize, Serialize};

use super::bootstrap::{Groups, add_times};
use super::{Interval, RESAMPLES, median, stream};

/// The same clip's part of a rate under both variants.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PairedRatio {
    /// Errors of the first variant.
    pub first: u64,
    /// Words the first variant's errors are counted over.
    pub first_over: u64,
    /// Errors of the second variant.
    pub second: u64,
    /// Words the second variant's errors are counted over.
    pub second_over: u64,
}

/// A difference between two variants with what is known about its uncertainty.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PairedDifference {
    /// The first variant's value.
    pub first: f64,
    /// The second variant's value.
    pub second: f64,
    /// Second minus first.
    pub difference: f64,
    /// Interval of the difference at the level asked for.
    pub interval: Interval,
    /// Two-sided probability of a difference at least this large if the variants were interchangeable.
    pub p_value: f64,
}

/// The difference between two rates over the same clips.
///
/// The interval is a percentile bootstrap over clips that leaves out `alpha`; the probability comes from swapping the
/// two variants clip by clip at random (Fisher's randomisation test; for error rates: Gillick and Cox, 1989, and
/// Noreen, "Computer-Intensive Methods for Testing Hypotheses", 1989). None for fewer than two clips or no words.
#[must_use]
pub fn paired_ratio_test(pairs: &[PairedRatio], alpha: f64, seed: u64) -> Option<PairedDifference> {
    let groups = Groups::of(pairs.iter().map(|p| [p.first, p.first_over, p.second, p.second_over]));
    let (first, second) = rates(groups.total())?;
    if pairs.len() < 2 {
        return None;
    }
    let difference = second - first;
    let mut random = stream(seed, &["paired bootstrap"]);
    let resampled = (0..RESAMPLES)
        .filter_map(|_| rates(groups.resampled_sum(&mut random)))
        .map(|(first, second)| second - first)
        .collect();
    let interval = Interval::of_resampled(resampled, alpha)?;

    let mut random = stream(seed, &["paired swap"]);
    let as_large = (0..RESAMPLES)
        .filter(|_| {
            let swapped = swapped_sum(&groups, &mut random);
            rates(swapped).is_some_and(|(first, second)| (second - first).abs() >= difference.abs() - 1e-12)
        })
        .count();
    let p_value = (as_large + 1) as f64 / (RESAMPLES + 1) as f64;
    Some(PairedDifference { first, second, difference, interval, p_value })
}

fn rates([first, first_over, second, second_over]: [u64; 4]) -> Option<(f64, f64)> {
    (first_over > 0 && second_over > 0)
        .then(|| (first as f64 / first_over as f64, second as f64 / second_over as f64))
}

fn swapped_sum(groups: &Groups<4>, random: &mut super::Stream) -> [u64; 4] {
    let mut sum = [0; 4];
    for (numbers, size) in &groups.groups {
        let swapped = Binomial::new(*size, 0.5).expect("one half is a probability").sample(random);
        let [first, first_over, second, second_over] = *numbers;
        add_times(&mut sum, numbers, size - swapped);
        add_times(&mut sum, &[second, second_over, first, first_over], swapped);
    }
    sum
}

/// The median of paired differences `second - first`, its exact distribution-free interval from order statistics that
/// leaves out at most `alpha`, and the two-sided sign test (Conover, "Practical Nonparametric Statistics", 1999,
/// sections 3.2 and 3.4). `first` and `second` of the result are the medians of each side.
///
/// None when there are too few pairs for an interval at this level (six at 95 %).
#[must_use]
pub fn paired_median_difference(pairs: &[(f64, f64)], alpha: f64) -> Option<PairedDifference> {
    let mut differences: Vec<f64> = pairs.iter().map(|(first, second)| second - first).collect();
    differences.sort_by(f64::total_cmp);
    let n = differences.len();
    // The largest k with P(Binomial(n, 1/2) < k) <= alpha / 2; the interval runs from the k-th to the k-th last value.
    let k = binomial_half_below(n).take_while(|below| *below <= alpha / 2.0).count().min(n);
    if k == 0 {
        return None;
    }
    let interval = Interval { low: differences[k - 1], high: differences[n - k] };
    let negative = differences.iter().filter(|d| **d < 0.0).count();
    let positive = differences.iter().filter(|d| **d > 0.0).count();
    let at_most = binomial_half_below(negative + positive).nth(negative.min(positive)).unwrap_or(1.0);
    let p_value = (2.0 * at_most).min(1.0);
    let side = |pick: fn(&(f64, f64)) -> f64| median(&pairs.iter().map(pick).collect::<Vec<_>>());
    Some(PairedDifference {
        first: side(|p| p.0)?,
        second: side(|p| p.1)?,
        difference: median(&differences)?,
        interval,
        p_value,
    })
}

/// P(X < 1), P(X < 2), ... for X ~ Binomial(n, 1/2), summed from logarithms so that large n does not underflow.
fn binomial_half_below(n: usize) -> impl Iterator<Item = f64> {
    let log_first = -(n as f64) * std::f64::consts::LN_2;
    (0..=n).scan((log_first, 0.0), move |(log_term, sum), i| {
        *sum += log_term.exp();
        *log_term += ((n - i) as f64).ln() - ((i + 1) as f64).ln();
        Some(*sum)
    })
}

/// Holm's step-down adjustment ("A simple sequentially rejective multiple test procedure", 1979): the probabilities,
/// in the order given, after correcting for their number.
#[must_use]
pub fn holm(p_values: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..p_values.len()).collect();
    order.sort_by(|&a, &b| p_values[a].total_cmp(&p_values[b]));
    let mut adjusted = vec![0.0; p_values.len()];
    let mut highest: f64 = 0.0;
    for (rank, &at) in order.iter().enumerate() {
        highest = highest.max((p_values[at] * (p_values.len() - rank) as f64).min(1.0));
        adjusted[at] = highest;
    }
    adjusted
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::RngExt;

    fn pair(first: u64, second: u64) -> PairedRatio {
        PairedRatio { first, first_over: 10, second, second_over: 10 }
    }

    #[test]
    fn swap_test_equals_full_enumeration() {
        let errors = [(3, 1), (2, 2), (4, 1), (0, 1), (5, 2), (1, 0), (2, 0), (3, 3), (1, 2), (4, 2)];
        let pairs: Vec<PairedRatio> = errors.iter().map(|&(a, b)| pair(a, b)).collect();
        let observed: i64 = errors.iter().map(|&(a, b)| b as i64 - a as i64).sum();
        let mut as_large = 0;
        for mask in 0..1u32 << errors.len() {
            let sum: i64 = errors
                .iter()
                .enumerate()
                .map(|(i, &(a, b))| (b as i64 - a as i64) * if mask >> i & 1 == 1 { -1 } else { 1 })
                .sum();
            as_large += i64::from(sum.abs() >= observed.abs());
        }
        let exact = as_large as f64 / f64::from(1 << errors.len());
        let test = paired_ratio_test(&pairs, 0.05, 1).unwrap();
        assert!((test.p_value - exact).abs() < 0.02, "{} against {exact}", test.p_value);
        assert!((test.difference - observed as f64 / 100.0).abs() < 1e-12);
    }

    #[test]
    fn equal_variants_are_rarely_told_apart() {
        let mut random = stream(11, &["null"]);
        let mut alarms = 0;
        for trial in 0..100 {
            let pairs: Vec<PairedRatio> =
                (0..40).map(|_| pair(random.random_range(0..4), random.random_range(0..4))).collect();
            let test = paired_ratio_test(&pairs, 0.05, trial).unwrap();
            alarms += usize::from(test.p_value < 0.05 && test.interval.excludes_zero());
        }
        assert!(alarms <= 11, "{alarms} false alarms in 100 at the 5 % level");
    }

    #[test]
    fn sign_test_interval_for_ten_pairs() {
        // For n = 10, P(X < 2) = 11/1024 and P(X < 3) = 56/1024: at 95 % the interval is the 2nd to the 9th value.
        let pairs: Vec<(f64, f64)> = (1..=10).map(|i| (0.0, f64::from(i))).collect();
        let test = paired_median_difference(&pairs, 0.05).unwrap();
        assert_eq!((test.interval.low, test.interval.high, test.difference), (2.0, 9.0, 5.5));
        assert!((test.p_value - 2.0 / 1024.0).abs() < 1e-12);
        assert_eq!(paired_median_difference(&pairs[..5], 0.05), None);
    }

    #[test]
    fn holm_by_hand() {
        let adjusted = holm(&[0.01, 0.04, 0.03]);
        let expected = [0.03, 0.06, 0.06];
        assert!(adjusted.iter().zip(expected).all(|(a, b)| (a - b).abs() < 1e-12), "{adjusted:?}");
    }
}
