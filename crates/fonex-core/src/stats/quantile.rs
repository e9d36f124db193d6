//! Quantiles of raw samples; nothing is binned, so a printed percentile is within the data's own resolution.

use super::{Interval, normal_quantile};

/// The `q` quantile of sorted values by linear interpolation between order statistics (Hyndman and Fan, "Sample
/// quantiles in statistical packages", 1996, type 7). None for no values. `q` is clamped to 0..=1.
#[must_use]
pub fn quantile_sorted(sorted: &[f64], q: f64) -> Option<f64> {
    let last = sorted.len().checked_sub(1)?;
    let at = q.clamp(0.0, 1.0) * last as f64;
    let low = at.floor() as usize;
    let high = at.ceil() as usize;
    Some(sorted[low] + (sorted[high] - sorted[low]) * (at - low as f64))
}

/// The `q` quantile of values in any order; see [`quantile_sorted`].
#[must_use]
pub fn quantile(values: &[f64], q: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    quantile_sorted(&sorted, q)
}

/// The 95 % interval of a quantile of sorted values, between two order statistics (Conover, "Practical Nonparametric
/// Statistics", 3rd edition, 1999, section 3.2; the binomial by its normal approximation). None where the values are too
/// few to have one on each side of it.
#[must_use]
pub fn quantile_interval(sorted: &[f64], q: f64) -> Option<Interval> {
    let n = sorted.len() as f64;
    let spread = normal_quantile(0.975) * (n * q * (1.0 - q)).sqrt();
    // Ranks count from 1; the bounds lie at r and s + 1.
    let low = (n * q - spread).floor();
    let high = (n * q + spread).ceil() + 1.0;
    (low >= 1.0 && high <= n).then(|| Interval { low: sorted[low as usize - 1], high: sorted[high as usize - 1] })
}

/// The median of values in any order.
#[must_use]
pub fn median(values: &[f64]) -> Option<f64> {
    quantile(values, 0.5)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn intervals_hold_the_quantile_as_often_as_they_say() {
        use rand::RngExt;
        let mut held = 0;
        for case in 0..400 {
            let mut random = crate::stats::stream(case, &["quantile"]);
            let mut values: Vec<f64> = (0..200).map(|_| random.random::<f64>()).collect();
            values.sort_by(f64::total_cmp);
            let interval = quantile_interval(&values, 0.9).unwrap();
            held += u32::from(interval.low <= 0.9 && 0.9 <= interval.high);
        }
        assert!((370..=398).contains(&held), "{held} of 400");
        assert_eq!(quantile_interval(&[1.0, 2.0, 3.0], 0.95), None);
    }

    #[test]
    fn known_quantiles() {
        let values: Vec<f64> = (1..=1000).rev().map(f64::from).collect();
        assert_eq!(median(&values), Some(500.5));
        assert_eq!(quantile(&values, 0.0), Some(1.0));
        assert_eq!(quantile(&values, 1.0), Some(1000.0));
        assert_eq!(quantile(&[10.0, 20.0, 40.0], 0.75), Some(30.0));
        assert_eq!(median(&[]), None);
    }
}
