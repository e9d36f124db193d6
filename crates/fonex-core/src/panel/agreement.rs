//! How far listeners agree with each other, and a measure with the listeners.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::measures::{Estimate, Estimator, Sample, estimate};
use crate::stats::UnitKind;

/// Krippendorff's alpha for values on an interval scale: 1 where all who rated the same thing agree, 0 where they agree as by chance, below
/// where they disagree more ("Content Analysis", 2004, chapter 11). Ratings are (thing, value); things rated once count for nothing. None
/// where nothing was rated twice, or all values are equal.
#[must_use]
pub fn agreement(ratings: &[(u64, f64)]) -> Option<f64> {
    let mut things: BTreeMap<u64, Vec<f64>> = BTreeMap::new();
    for (thing, value) in ratings {
        things.entry(*thing).or_default().push(*value);
    }
    things.retain(|_, values| values.len() > 1);
    // The sum of (a - b)² over all ordered pairs.
    let apart = |values: &[f64]| {
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        2.0 * values.len() as f64 * values.iter().map(|value| (value - mean).powi(2)).sum::<f64>()
    };
    let all: Vec<f64> = things.values().flatten().copied().collect();
    let count = all.len() as f64;
    let within: f64 = things.values().map(|values| apart(values) / (values.len() - 1) as f64).sum::<f64>() / count;
    let expected = apart(&all) / (count * (count - 1.0));
    (expected > 0.0).then(|| 1.0 - within / expected)
}

/// How well a measure agrees with listeners.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Concordance {
    /// Of two answers to the same text of which listeners liked one better and the measure sets one ahead, how often that is the same; a half
    /// is chance. Its interval is over texts.
    pub share: Estimate,
    /// How many such pairs.
    pub pairs: u64,
}

/// Compares a measure with what listeners said, text by text: each text has (measure, opinion) of every voice; pairs that are equal in
/// either are left out (gamma of Goodman and Kruskal, 1954, as a share). None without a pair.
#[must_use]
pub fn concordance(texts: &[Vec<(f64, f64)>], lower_is_better: bool) -> Option<Concordance> {
    const SHARE: Estimator =
        Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 };
    let mut sample = Sample::new(2, UnitKind::Clip);
    let mut pairs = 0;
    for (unit, voices) in (0..).zip(texts) {
        let (mut same, mut all) = (0.0, 0.0);
        for (at, one) in voices.iter().enumerate() {
            for other in &voices[at + 1..] {
                let (measured, liked) = (other.0 - one.0, other.1 - one.1);
                if measured.abs() > 1e-12 && liked.abs() > 1e-12 {
                    all += 1.0;
                    same += f64::from(u8::from(((measured > 0.0) == (liked > 0.0)) != lower_is_better));
                }
            }
        }
        if all > 0.0 {
            pairs += all as u64;
            sample.add(unit, [[same, all].as_slice()].into_iter());
        }
    }
    Some(Concordance { share: estimate(SHARE, &sample)?, pairs })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The worked example of Krippendorff, "Computing Krippendorff's alpha-reliability" (2011), section E: four observers, twelve units, with
    /// values missing; 0.849 on an interval scale.
    #[test]
    fn the_published_example() {
        let rows: [[Option<u8>; 12]; 4] = [
            [Some(1), Some(2), Some(3), Some(3), Some(2), Some(1), Some(4), Some(1), Some(2), None, None, None],
            [Some(1), Some(2), Some(3), Some(3), Some(2), Some(2), Some(4), Some(1), Some(2), Some(5), None, Some(3)],
            [None, Some(3), Some(3), Some(3), Some(2), Some(3), Some(4), Some(2), Some(2), Some(5), Some(1), None],
            [Some(1), Some(2), Some(3), Some(3), Some(2), Some(4), Some(4), Some(1), Some(2), Some(5), Some(1), None],
        ];
        let ratings: Vec<(u64, f64)> = rows
            .iter()
            .flat_map(|row| (0..).zip(row).filter_map(|(unit, value)| Some((unit, f64::from((*value)?)))))
            .collect();
        assert!((agreement(&ratings).unwrap() - 0.849).abs() < 5e-4, "{:?}", agreement(&ratings));
        assert_eq!(agreement(&[(1, 2.0), (1, 2.0)]), None, "no value differs");
        assert_eq!(agreement(&[(1, 2.0), (2, 3.0)]), None, "nothing was rated twice");
        assert_eq!(agreement(&[(1, 2.0), (1, 2.0), (2, 3.0), (2, 3.0)]), Some(1.0));
    }

    #[test]
    fn a_measure_that_orders_as_listeners_do_agrees() {
        let texts: Vec<Vec<(f64, f64)>> =
            (0..8).map(|at| (0..4).map(|v| (f64::from(v * 3 + at), 5.0 - f64::from(v))).collect()).collect();
        let found = concordance(&texts, true).unwrap();
        assert_eq!((found.share.value, found.pairs), (1.0, 48));
        assert_eq!(concordance(&texts, false).unwrap().share.value, 0.0);
        assert_eq!(concordance(&[vec![(1.0, 2.0), (1.0, 3.0), (2.0, 2.0)]], true).map(|found| found.pairs), Some(1));
        assert!(concordance(&[vec![(1.0, 2.0)]], true).is_none());
    }
}
