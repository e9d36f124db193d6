//! Offsets over a set of clips: how late, how scattered, and whether they drift.

use rand::RngExt;
use serde::{Deserialize, Serialize};

use super::ClipOffsets;
use crate::stats::{Interval, median, quantile, stream};

/// Word times against labels over a set of clips.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Timing {
    /// Words heard right that have times on both sides.
    pub words: u64,
    /// Differences of the starts.
    pub start: OffsetSummary,
    /// Differences of the ends; left out when the engine gives none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<OffsetSummary>,
    /// Drift: how much later the engine puts words for each minute of a recording; left out when no clip has two words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope_ms_per_min: Option<f64>,
    /// Its 95 % bootstrap interval over clips; left out for a single clip. Short clips leave it wide.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope_interval: Option<Interval>,
}

/// A distribution of offsets, heard minus labelled.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct OffsetSummary {
    /// Median in milliseconds; positive is late.
    pub median_ms: f64,
    /// Median absolute deviation from the median.
    pub mad_ms: f64,
    /// 95th percentile of the absolute offset.
    pub p95_abs_ms: f64,
    /// Share of words within 50 ms of their label.
    pub within_50ms: f64,
    /// Share of words within 100 ms of their label.
    pub within_100ms: f64,
}

impl OffsetSummary {
    /// None without offsets.
    #[must_use]
    pub fn of(offsets_ms: &[f64]) -> Option<Self> {
        let median_ms = median(offsets_ms)?;
        let deviations: Vec<f64> = offsets_ms.iter().map(|o| (o - median_ms).abs()).collect();
        let absolute: Vec<f64> = offsets_ms.iter().map(|o| o.abs()).collect();
        let within = |ms: f64| absolute.iter().filter(|o| **o <= ms).count() as f64 / absolute.len() as f64;
        Some(Self {
            median_ms,
            mad_ms: median(&deviations)?,
            p95_abs_ms: quantile(&absolute, 0.95)?,
            within_50ms: within(50.0),
            within_100ms: within(100.0),
        })
    }
}

/// Gathers offsets clip by clip.
#[derive(Debug, Clone, Default)]
pub struct TimingBuilder {
    clips: Vec<ClipOffsets>,
}

impl TimingBuilder {
    /// Adds a clip that has times on both sides.
    pub fn add(&mut self, offsets: &ClipOffsets) {
        self.clips.push(offsets.clone());
    }

    /// Adds what another builder gathered from clips that come after this one's.
    pub fn merge(&mut self, later: Self) {
        self.clips.extend(later.clips);
    }

    /// None when no word has times on both sides.
    #[must_use]
    pub fn finish(&self, seed: u64) -> Option<Timing> {
        let words = || self.clips.iter().flat_map(|clip| &clip.words);
        let starts: Vec<f64> = words().map(|word| word.start_ms).collect();
        let ends: Vec<f64> = words().filter_map(|word| word.end_ms).collect();
        let (slope_ms_per_min, slope_interval) = slope(&self.clips, seed);
        Some(Timing {
            words: starts.len() as u64,
            start: OffsetSummary::of(&starts)?,
            end: OffsetSummary::of(&ends),
            slope_ms_per_min,
            slope_interval,
        })
    }
}

/// A slope between two words of the same clip.
struct Slope {
    ms_per_min: f64,
    /// The time between the words, which is how much the slope counts.
    gap_s: f64,
    clip: usize,
}

/// Above this many pairs of words a seeded sample of them is taken.
const MOST_PAIRS: usize = 500_000;
/// Resamples of clips for the interval of a slope.
const SLOPE_RESAMPLES: usize = 400;

/// The slopes of all pairs of words within a clip, by size.
fn slopes(clips: &[ClipOffsets], seed: u64) -> Vec<Slope> {
    let pairs_in = |clip: &ClipOffsets| clip.words.len() * clip.words.len().saturating_sub(1) / 2;
    let all: usize = clips.iter().map(pairs_in).sum();
    let mut slopes = Vec::with_capacity(all.min(MOST_PAIRS));
    let mut random = stream(seed, &["slope pairs"]);
    for (at, clip) in clips.iter().enumerate() {
        let words = &clip.words;
        let mut push = |i: usize, j: usize| {
            let gap_s = words[j].at_s - words[i].at_s;
            if gap_s > 0.0 {
                let ms_per_min = (words[j].start_ms - words[i].start_ms) / gap_s * 60.0;
                slopes.push(Slope { ms_per_min, gap_s, clip: at });
            }
        };
        if all <= MOST_PAIRS {
            (0..words.len()).for_each(|j| (0..j).for_each(|i| push(i, j)));
        } else if words.len() > 1 {
            let share = (pairs_in(clip) as f64 / all as f64 * MOST_PAIRS as f64).ceil() as usize;
            for _ in 0..share {
                let (i, j) = (random.random_range(0..words.len()), random.random_range(0..words.len()));
                push(i.min(j), i.max(j));
            }
        }
    }
    slopes.sort_by(|a, b| a.ms_per_min.total_cmp(&b.ms_per_min));
    slopes
}

/// The weighted median of the slopes between two words of the same clip, each weighted by the time between them (Theil,
/// 1950, and Sen, 1968, with Jaeckel's weights, 1972), and its 95 % bootstrap interval over clips.
fn slope(clips: &[ClipOffsets], seed: u64) -> (Option<f64>, Option<Interval>) {
    let slopes = slopes(clips, seed);
    let estimate = weighted_median(&slopes, &vec![1.0; clips.len()]);
    let mut random = stream(seed, &["slope interval"]);
    let resampled = (0..SLOPE_RESAMPLES).filter_map(|_| {
        let mut drawn = vec![0.0; clips.len()];
        (0..clips.len()).for_each(|_| drawn[random.random_range(0..clips.len())] += 1.0);
        weighted_median(&slopes, &drawn)
    });
    let interval = if clips.len() > 1 { Interval::of_resampled(resampled.collect(), 0.05) } else { None };
    (estimate, interval)
}

/// The weighted median of sorted slopes, each clip counted as often as it was drawn.
fn weighted_median(sorted: &[Slope], drawn: &[f64]) -> Option<f64> {
    let weight = |slope: &Slope| slope.gap_s * drawn[slope.clip];
    let half = sorted.iter().map(weight).sum::<f64>() / 2.0;
    let mut passed = 0.0;
    let middle = sorted.iter().find(|slope| {
        passed += weight(slope);
        passed >= half && passed > 0.0
    });
    middle.map(|slope| slope.ms_per_min)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::timing::WordOffset;

    fn clip(offsets: impl Iterator<Item = (f64, f64)>) -> ClipOffsets {
        ClipOffsets { words: offsets.map(|(at_s, start_ms)| WordOffset { at_s, start_ms, end_ms: None }).collect() }
    }

    #[test]
    fn planted_offset_and_drift_are_found_in_spite_of_outliers() {
        let mut builder = TimingBuilder::default();
        for recording in 0..3 {
            let planted = |i: i32| if i % 10 == 9 { 900.0 } else { 40.0 + 120.0 * f64::from(i) / 60.0 };
            builder.add(&clip((0..120).map(|i| (f64::from(i + recording), planted(i)))));
        }
        let timing = builder.finish(1).unwrap();
        assert_eq!(timing.words, 360);
        assert!((timing.slope_ms_per_min.unwrap() - 120.0).abs() < 6.0, "{timing:?}");
        assert!(timing.slope_interval.is_some_and(|i| i.low <= 120.0 + 6.0 && i.high >= 120.0 - 6.0), "{timing:?}");
        assert_eq!(timing.end, None);
    }

    #[test]
    fn summary_by_hand() {
        let summary = OffsetSummary::of(&[-60.0, 0.0, 20.0, 40.0, 200.0]).unwrap();
        assert_eq!((summary.median_ms, summary.mad_ms), (20.0, 20.0));
        assert_eq!((summary.within_50ms, summary.within_100ms), (0.6, 0.8));
        assert!((summary.p95_abs_ms - 172.0).abs() < 1e-9);
        assert_eq!(OffsetSummary::of(&[]), None);
    }
}
