//! What a corpus can tell at all, before anything is run on it.

use crate::stats::{normal_quantile, student_quantile};

/// The least difference between two error rates that clips of this many words would detect with probability [`super::POWER`] at
/// level [`super::ALPHA`], when both rates lie around `rate`. `groups` gives the words of each unit's clips.
///
/// Errors are taken to be beta-binomial within a clip with an intraclass correlation of 0.1, and within a speaker of 0.02: values
/// at which recognisers' clips scatter, a little to the safe side, since the two variants are taken to err independently.
/// None for fewer than two units or no words.
#[must_use]
pub fn least_difference(groups: &[Vec<u64>], rate: f64) -> Option<f64> {
    const WITHIN_CLIP: f64 = 0.1;
    const WITHIN_GROUP: f64 = 0.02;
    let words: f64 = groups.iter().flatten().map(|n| *n as f64).sum();
    if groups.len() < 2 || words <= 0.0 {
        return None;
    }
    let each = rate * (1.0 - rate);
    let variance: f64 = groups
        .iter()
        .map(|clips| {
            let sum: f64 = clips.iter().map(|n| *n as f64).sum();
            let own: f64 = clips.iter().map(|n| *n as f64 * (1.0 + (*n as f64 - 1.0).max(0.0) * WITHIN_CLIP)).sum();
            let between = if clips.len() > 1 { WITHIN_GROUP * sum * sum } else { 0.0 };
            2.0 * each * (own + between)
        })
        .sum();
    let units = groups.len() as f64;
    let reach = student_quantile(super::ALPHA, units - 1.0) + normal_quantile(super::POWER);
    Some(reach * variance.sqrt() / words)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_clips_tell_less_and_speakers_cost() {
        let single = |clips: usize| least_difference(&vec![vec![10]; clips], 0.1).unwrap();
        assert!((single(400) / single(100) - 0.5).abs() < 0.02);
        // By hand: 2 * 0.09 * 10 * 1.9 a clip, 100 clips of 10 words.
        let by_hand = (1.984_217 + 0.841_621) * (100.0_f64 * 2.0 * 0.09 * 10.0 * 1.9).sqrt() / 1_000.0;
        assert!((single(100) - by_hand).abs() < 1e-5);
        let clustered = least_difference(&vec![vec![10; 10]; 10], 0.1).unwrap();
        assert!(clustered > single(100));
        assert_eq!(least_difference(&[vec![10]], 0.1), None);
    }
}
