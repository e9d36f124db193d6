//! Where in a long recording the times jump: audio that was lost or doubled, not a clock that runs apart.

use serde::{Deserialize, Serialize};

use super::WordOffset;
use crate::stats::median;

/// A place from which on all words lie elsewhere.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Jump {
    /// The clip.
    pub clip: String,
    /// Where in it, in seconds: the first word behind the jump.
    pub at_s: f64,
    /// By how much the offset changes, in milliseconds.
    pub by_ms: f64,
}

/// Words looked at on each side of a place.
const SIDE: usize = 12;
/// The smallest jump reported.
const LEAST_MS: f64 = 80.0;

/// Standard deviations of the wander that a jump must exceed: with thousands of places in a recording, five hardly come.
const WANDERS: f64 = 5.0;

/// The jumps of one recording, as (seconds, milliseconds). The medians of the words on both sides of each place are held
/// against each other, the local drift taken off (a two-window change-point scan; Basseville and Nikiforov, "Detection of
/// Abrupt Changes", 1993, chapter 2); a place counts where they differ by more than chance lets medians differ, and by more
/// than the offset wanders over the same stretch elsewhere in the recording.
/// `words` are in the order of their labels. Cost is linear in the words.
#[must_use]
pub fn jumps(words: &[WordOffset]) -> Vec<(f64, f64)> {
    if words.len() < 2 * SIDE {
        return Vec::new();
    }
    let slope = local_slope(words);
    let level: Vec<f64> = words.iter().map(|word| word.start_ms - slope * word.at_s).collect();
    let steps: Vec<f64> = level.windows(2).map(|pair| (pair[1] - pair[0]).abs()).collect();
    // The median step of neighbours with independent normal jitter is 0.954 of its standard deviation; the difference of
    // two medians of n words has 1.77 / sqrt(n) of it, and five of those do not come by chance in a long recording.
    let jitter = median(&steps).unwrap_or(0.0) / 0.954;
    let least = LEAST_MS.max(5.0 * 1.77 * jitter / (SIDE as f64).sqrt());
    let step_at = |at: usize| {
        let before = median(&level[at - SIDE..at]).unwrap_or(0.0);
        median(&level[at..at + SIDE]).unwrap_or(0.0) - before
    };
    let changes: Vec<f64> = (SIDE..=words.len() - SIDE).map(step_at).collect();
    let sizes: Vec<f64> = changes.iter().map(|change| change.abs()).collect();
    // The median size of a normal variable is 0.6745 of its standard deviation.
    let wander = median(&sizes).unwrap_or(0.0) / 0.6745;
    let least = least.max(WANDERS * wander);
    let mut found = Vec::new();
    let mut at = 0;
    while at < changes.len() {
        if changes[at].abs() < least {
            at += 1;
            continue;
        }
        let run = changes[at..].iter().take(2 * SIDE).take_while(|change| change.abs() >= least).count();
        let places = at..at + run;
        // Where two levels fit best is the place.
        let misfit = |place: usize| {
            let (low, high) = ((place + SIDE).saturating_sub(2 * SIDE), (place + SIDE + SIDE).min(level.len()));
            let off = |part: &[f64]| {
                let middle = median(part).unwrap_or(0.0);
                part.iter().map(|value| (value - middle).abs()).sum::<f64>()
            };
            off(&level[low..place + SIDE]) + off(&level[place + SIDE..high])
        };
        let best = places.min_by(|a, b| misfit(*a).total_cmp(&misfit(*b))).expect("a run has a place");
        found.push((words[best + SIDE].at_s, changes[best]));
        at += run.max(SIDE);
    }
    found
}

/// The drift between words near each other, which a jump hardly touches, in milliseconds a second.
fn local_slope(words: &[WordOffset]) -> f64 {
    let slopes: Vec<f64> = (0..words.len().saturating_sub(SIDE))
        .filter_map(|i| {
            let (a, b) = (&words[i], &words[i + SIDE]);
            let gap_s = b.at_s - a.at_s;
            (gap_s > 0.0).then(|| (b.start_ms - a.start_ms) / gap_s)
        })
        .collect();
    median(&slopes).unwrap_or(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::RngExt;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]

        #[test]
        fn planted_jumps_are_found_where_they_are(
            seed in 0_u64..10_000, by_ms in prop_oneof![-3_000.0..-250.0, 250.0..3_000.0], drift in -400.0..400.0,
            at in 40_usize..160,
        ) {
            let mut random = crate::stats::stream(seed, &["jumps"]);
            let words: Vec<WordOffset> = (0..200)
                .map(|i| {
                    let at_s = i as f64 * 0.4;
                    let jitter = (0..6).map(|_| random.random::<f64>() - 0.5).sum::<f64>() * 30.0;
                    let jump = if i >= at { by_ms } else { 0.0 };
                    WordOffset { at_s, start_ms: 20.0 + drift / 60.0 * at_s + jitter + jump, end_ms: None }
                })
                .collect();
            let found = jumps(&words);
            prop_assert_eq!(found.len(), 1, "{:?}", found);
            prop_assert!((found[0].0 - at as f64 * 0.4).abs() <= 0.81, "{:?}", found);
            prop_assert!((found[0].1 - by_ms).abs() < 65.0, "{:?}", found);
            let still: Vec<WordOffset> =
                words.iter().enumerate().map(|(i, w)| WordOffset { start_ms: w.start_ms - if i >= at { by_ms } else { 0.0 }, ..*w }).collect();
            prop_assert!(jumps(&still).is_empty());
        }
    }
}
