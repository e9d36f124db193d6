//! Quantiles of raw samples; nothing is binned, so a printed percentile is within the data's own resolution.

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
    sorted.sort_unstable_by(f64::total_cmp);
    quantile_sorted(&sorted, q)
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
    fn known_quantiles() {
        let values: Vec<f64> = (1..=1000).rev().map(f64::from).collect();
        assert_eq!(median(&values), Some(500.5));
        assert_eq!(quantile(&values, 0.0), Some(1.0));
        assert_eq!(quantile(&values, 1.0), Some(1000.0));
        assert_eq!(quantile(&[10.0, 20.0, 40.0], 0.75), Some(30.0));
        assert_eq!(median(&[]), None);
    }
}
