//! A straight line through points with outliers among them.

use rand::RngExt;
use serde::{Deserialize, Serialize};

use super::{Interval, median, quantile, stream};

/// A line and how sure its slope is.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Line {
    /// Points it stands on.
    pub points: u64,
    /// Change of y for each unit of x.
    pub slope: f64,
    /// y where x is zero.
    pub at_zero: f64,
    /// 95 % bootstrap interval of the slope, over points.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope_interval: Option<Interval>,
}

/// Above this many pairs a seeded sample of them is taken.
const MOST_PAIRS: usize = 20_000;
const LINE_RESAMPLES: usize = 200;
/// The same for a resample, of which there are many.
const MOST_PAIRS_RESAMPLED: usize = 2_000;

/// The median slope of all pairs of points (Theil, "A rank-invariant method of linear and polynomial regression analysis",
/// 1950; Sen, 1968) and the median of what is left as the value at zero. None for fewer than three points, or when x does
/// not vary.
#[must_use]
pub fn line_through(points: &[(f64, f64)], seed: u64) -> Option<Line> {
    if points.len() < 3 {
        return None;
    }
    let mut random = stream(seed, &["line"]);
    let slope = median_slope(points, MOST_PAIRS, &mut random)?;
    let rest: Vec<f64> = points.iter().map(|(x, y)| y - slope * x).collect();
    let resampled = (0..LINE_RESAMPLES).filter_map(|_| {
        let drawn: Vec<(f64, f64)> = points.iter().map(|_| points[random.random_range(0..points.len())]).collect();
        median_slope(&drawn, MOST_PAIRS_RESAMPLED, &mut random)
    });
    let resampled: Vec<f64> = resampled.collect();
    let slope_interval =
        quantile(&resampled, 0.025).zip(quantile(&resampled, 0.975)).map(|(low, high)| Interval { low, high });
    Some(Line { points: points.len() as u64, slope, at_zero: median(&rest)?, slope_interval })
}

fn median_slope(points: &[(f64, f64)], most: usize, random: &mut super::Stream) -> Option<f64> {
    let slope = |i: usize, j: usize| {
        let ((x1, y1), (x2, y2)) = (points[i], points[j]);
        ((x2 - x1).abs() > 1e-12).then(|| (y2 - y1) / (x2 - x1))
    };
    let all = points.len() * (points.len() - 1) / 2;
    let slopes: Vec<f64> = if all <= most {
        (0..points.len()).flat_map(|j| (0..j).filter_map(move |i| slope(i, j))).collect()
    } else {
        (0..most)
            .filter_map(|_| slope(random.random_range(0..points.len()), random.random_range(0..points.len())))
            .collect()
    };
    median(&slopes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_planted_line_is_found_among_outliers() {
        let mut random = stream(4, &["planted"]);
        let points: Vec<(f64, f64)> = (0..120)
            .map(|i| {
                let x = f64::from(i) / 10.0;
                let noise = random.random::<f64>() * 20.0 - 10.0;
                (x, if i % 9 == 0 { 5_000.0 } else { 40.0 + 55.0 * x + noise })
            })
            .collect();
        let line = line_through(&points, 1).unwrap();
        let interval = line.slope_interval.unwrap();
        assert!((line.slope - 55.0).abs() < 3.0 && (line.at_zero - 40.0).abs() < 15.0, "{line:?}");
        assert!(interval.low <= 55.0 && 55.0 <= interval.high, "{line:?}");
        assert_eq!(line_through(&[(1.0, 2.0); 9], 1), None, "x does not vary");
    }
}
