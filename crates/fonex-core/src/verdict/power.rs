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
    let (words, variance) = scatter(groups, rate)?;
    Some(reach(groups.len() as f64) * variance.sqrt() / words)
}

/// About how many clips like these a comparison needs to detect a difference of `difference`, by the same reckoning. None where
/// [`least_difference`] has no answer, or for a difference of 0.
#[must_use]
pub fn clips_needed(groups: &[Vec<u64>], rate: f64, difference: f64) -> Option<u64> {
    let (words, variance) = scatter(groups, rate)?;
    let units = groups.len() as f64;
    // The difference that `n` units like these detect is reach(n) times this over the root of n.
    let one = (variance / units).sqrt() / (words / units);
    let detects = |n: u64| reach(n as f64) * one / (n as f64).sqrt() <= difference;
    let most = (1_u64..40).map(|power| 1 << power).find(|n| detects(*n))?;
    let (mut low, mut high) = (1, most);
    while high - low > 1 {
        let middle = u64::midpoint(low, high);
        if detects(middle) { high = middle } else { low = middle }
    }
    let clips = groups.iter().map(Vec::len).sum::<usize>() as f64;
    Some((high as f64 * clips / units).ceil() as u64)
}

/// How many standard errors a difference must measure to be detected.
fn reach(units: f64) -> f64 {
    student_quantile(super::ALPHA, units - 1.0) + normal_quantile(super::POWER)
}

/// The words of all units, and the variance of the difference of their errors.
fn scatter(groups: &[Vec<u64>], rate: f64) -> Option<(f64, f64)> {
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
    Some((words, variance))
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

    #[test]
    fn as_many_clips_as_are_needed_detect_what_was_asked() {
        for (clips, size) in [(40_usize, 1_usize), (30, 10), (9, 3)] {
            let groups = |units: usize| vec![vec![7_u64; size]; units];
            for difference in [0.05, 0.02, 0.01] {
                let needed = clips_needed(&groups(clips), 0.1, difference).unwrap() as usize;
                assert_eq!(needed % size, 0);
                assert!(least_difference(&groups(needed / size), 0.1).unwrap() <= difference);
                assert!(least_difference(&groups(needed / size - 1), 0.1).unwrap() > difference);
            }
        }
        assert_eq!((clips_needed(&[vec![10]], 0.1, 0.02), clips_needed(&vec![vec![10]; 9], 0.1, 0.0)), (None, None));
    }
}
