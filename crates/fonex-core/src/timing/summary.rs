//! Offsets over a set of clips: how late, how scattered, and whether they drift.

use rand::RngExt;
use serde::{Deserialize, Serialize};

use super::{ClipOffsets, Jump, TimeFaults, jumps};
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
    /// Differences of the durations, heard minus labelled, where the engine gives ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub duration: Option<OffsetSummary>,
    /// The constant part of the offset: what is left at the start of a recording when the drift is taken off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset_ms: Option<f64>,
    /// Drift: how much later the engine puts words for each minute of a recording; left out when no clip has two words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope_ms_per_min: Option<f64>,
    /// Its 95 % bootstrap interval over clips; of a few long recordings over stretches of a tenth of each. Short clips
    /// leave it wide.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope_interval: Option<Interval>,
    /// Where the times of a long recording jump; the first fifty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub jumps: Vec<Jump>,
    /// What is wrong with the times as they came; left out where nothing is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub faults: Option<TimingFaults>,
}

/// What is wrong with word times as they came, over a set of clips.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct TimingFaults {
    /// Words without a start.
    pub without_times: u64,
    /// Words that start before the word before them ends.
    pub overlapping: u64,
    /// Words that start before the word before them starts, or end before they start.
    pub out_of_order: u64,
    /// Clips whose times were not measured but divided from the text by the engine.
    pub guessed_clips: u64,
    /// Clips with times of segments only, which were divided among their words here.
    pub interpolated_clips: u64,
    /// Clips whose times are in another unit than seconds; they are in no figure.
    pub other_unit_clips: u64,
    /// The unit of these, as so many of it a second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_unit: Option<f64>,
}

/// A distribution of offsets, heard minus labelled.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct OffsetSummary {
    /// Median in milliseconds; positive is late.
    pub median_ms: f64,
    /// Median absolute deviation from the median.
    pub mad_ms: f64,
    /// 95th percentile of the absolute offset.
    pub p95_abs_ms: f64,
    /// Share of words within 20 ms of their label.
    #[serde(default)]
    pub within_20ms: f64,
    /// Share of words within 50 ms of their label.
    pub within_50ms: f64,
    /// Share of words within 100 ms of their label.
    pub within_100ms: f64,
    /// Share of words within 200 ms of their label.
    #[serde(default)]
    pub within_200ms: f64,
}

impl OffsetSummary {
    /// None without offsets.
    #[must_use]
    pub fn of(offsets_ms: &[f64]) -> Option<Self> {
        let median_ms = median(offsets_ms)?;
        let deviations: Vec<f64> = offsets_ms.iter().map(|o| (o - median_ms).abs()).collect();
        let absolute: Vec<f64> = offsets_ms.iter().map(|o| o.abs()).collect();
        // Times are decimal seconds: their differences carry a rounding error that decides nothing.
        let within = |ms: f64| absolute.iter().filter(|o| **o <= ms + 1e-6).count() as f64 / absolute.len() as f64;
        Some(Self {
            median_ms,
            mad_ms: median(&deviations)?,
            p95_abs_ms: quantile(&absolute, 0.95)?,
            within_20ms: within(20.0),
            within_50ms: within(50.0),
            within_100ms: within(100.0),
            within_200ms: within(200.0),
        })
    }
}

/// Gathers offsets clip by clip.
#[derive(Debug, Clone, Default)]
pub struct TimingBuilder {
    clips: Vec<ClipOffsets>,
    jumps: Vec<Jump>,
    faults: TimingFaults,
}

/// Jumps listed.
const MOST_JUMPS: usize = 50;

impl TimingBuilder {
    /// Clips added.
    #[must_use]
    pub fn clips(&self) -> u32 {
        self.clips.len() as u32
    }

    /// The differences of the word starts of some clips, by the places they were added at, in milliseconds.
    #[must_use]
    pub fn starts_ms(&self, places: &[u32]) -> Vec<f64> {
        let words = places.iter().flat_map(|place| &self.clips[*place as usize].words);
        words.map(|word| word.start_ms).collect()
    }

    /// Adds a clip that has times on both sides; gives its place.
    pub fn add(&mut self, clip_id: &str, offsets: &ClipOffsets) -> u32 {
        let found =
            jumps(&offsets.words).into_iter().map(|(at_s, by_ms)| Jump { clip: clip_id.to_owned(), at_s, by_ms });
        self.jumps.extend(found);
        let TimeFaults { without_times, overlapping, out_of_order, guessed } = offsets.faults;
        self.faults.without_times += without_times;
        self.faults.overlapping += overlapping;
        self.faults.out_of_order += out_of_order;
        self.faults.guessed_clips += u64::from(guessed);
        self.faults.interpolated_clips += u64::from(offsets.interpolated);
        self.faults.other_unit_clips += u64::from(offsets.unit.is_some());
        self.faults.other_unit = self.faults.other_unit.or(offsets.unit);
        self.clips.push(offsets.clone());
        self.clips() - 1
    }

    /// Adds what another builder gathered from clips that come after this one's.
    pub fn merge(&mut self, later: Self) {
        self.clips.extend(later.clips);
        self.jumps.extend(later.jumps);
        let faults = &mut self.faults;
        faults.without_times += later.faults.without_times;
        faults.overlapping += later.faults.overlapping;
        faults.out_of_order += later.faults.out_of_order;
        faults.guessed_clips += later.faults.guessed_clips;
        faults.interpolated_clips += later.faults.interpolated_clips;
        faults.other_unit_clips += later.faults.other_unit_clips;
        faults.other_unit = faults.other_unit.or(later.faults.other_unit);
    }

    /// None when no clip has times on both sides, or none of its words.
    #[must_use]
    pub fn finish(mut self, seed: u64) -> Option<Timing> {
        let words = || self.clips.iter().flat_map(|clip| &clip.words);
        let starts: Vec<f64> = words().map(|word| word.start_ms).collect();
        let ends: Vec<f64> = words().filter_map(|word| word.end_ms).collect();
        let durations: Vec<f64> = words().filter_map(|word| Some(word.end_ms? - word.start_ms)).collect();
        let faults = (self.faults != TimingFaults::default()).then_some(self.faults);
        let (slope_ms_per_min, slope_interval) = slope(&self.clips, seed);
        let level = |slope: f64| words().map(|word| word.start_ms - slope * word.at_s / 60.0).collect::<Vec<f64>>();
        let offset_ms = slope_ms_per_min.and_then(|slope| median(&level(slope)));
        self.jumps.truncate(MOST_JUMPS);
        if starts.is_empty() && faults.is_none() {
            return None;
        }
        Some(Timing {
            words: starts.len() as u64,
            start: OffsetSummary::of(&starts).unwrap_or_default(),
            end: OffsetSummary::of(&ends),
            duration: OffsetSummary::of(&durations),
            offset_ms,
            slope_ms_per_min,
            slope_interval,
            jumps: self.jumps,
            faults,
        })
    }
}

/// A slope between two words of the same clip.
struct Slope {
    ms_per_min: f64,
    /// The time between the words, which is how much the slope counts.
    gap_s: f64,
    /// What the two words are drawn with: their clip, or their stretches of it.
    drawn_with: (usize, usize),
}

/// Above this many pairs of words a seeded sample of them is taken.
const MOST_PAIRS: usize = 500_000;
/// Resamples for the interval of a slope.
const SLOPE_RESAMPLES: usize = 400;
/// With fewer clips than this, stretches of them are drawn and not whole clips.
const FEW_CLIPS: usize = 8;
/// Stretches a clip is parted into.
const STRETCHES: usize = 10;

/// The slopes of all pairs of words within a clip, by size.
fn slopes(clips: &[ClipOffsets], seed: u64) -> Vec<Slope> {
    let pairs_in = |clip: &ClipOffsets| clip.words.len() * clip.words.len().saturating_sub(1) / 2;
    let all: usize = clips.iter().map(pairs_in).sum();
    let mut slopes = Vec::with_capacity(all.min(MOST_PAIRS));
    let mut random = stream(seed, &["slope pairs"]);
    for (at, clip) in clips.iter().enumerate() {
        let words = &clip.words;
        let drawn =
            |word: usize| if clips.len() < FEW_CLIPS { at * STRETCHES + word * STRETCHES / words.len() } else { at };
        let mut push = |i: usize, j: usize| {
            let gap_s = words[j].at_s - words[i].at_s;
            if gap_s > 0.0 {
                let ms_per_min = (words[j].start_ms - words[i].start_ms) / gap_s * 60.0;
                slopes.push(Slope { ms_per_min, gap_s, drawn_with: (drawn(i), drawn(j)) });
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
/// 1950, and Sen, 1968, with Jaeckel's weights, 1972), and its 95 % bootstrap interval over clips, or over stretches of
/// few ones (Künsch, "The jackknife and the bootstrap for general stationary observations", 1989).
fn slope(clips: &[ClipOffsets], seed: u64) -> (Option<f64>, Option<Interval>) {
    let slopes = slopes(clips, seed);
    let few = clips.len() < FEW_CLIPS;
    let units = if few { clips.len() * STRETCHES } else { clips.len() };
    let estimate = weighted_median(&slopes, &vec![1.0; units]);
    // A clip of fewer words than stretches cannot be parted.
    let too_short = few && clips.iter().map(|clip| clip.words.len()).sum::<usize>() < 3 * STRETCHES;
    if too_short && clips.len() < 2 {
        return (estimate, None);
    }
    let mut random = stream(seed, &["slope interval"]);
    let resampled = (0..SLOPE_RESAMPLES).filter_map(|_| {
        let mut drawn = vec![0.0; units];
        (0..units).for_each(|_| drawn[random.random_range(0..units)] += 1.0);
        weighted_median(&slopes, &drawn)
    });
    (estimate, Interval::of_resampled(resampled.collect(), 0.05))
}

/// The weighted median of sorted slopes, each counted as often as what it stands on was drawn.
fn weighted_median(sorted: &[Slope], drawn: &[f64]) -> Option<f64> {
    let weight = |slope: &Slope| {
        let (a, b) = slope.drawn_with;
        slope.gap_s * if a == b { drawn[a] } else { drawn[a] * drawn[b] }
    };
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
        let words = offsets.map(|(at_s, start_ms)| WordOffset { at_s, start_ms, end_ms: None }).collect();
        ClipOffsets { words, ..ClipOffsets::default() }
    }

    #[test]
    fn planted_offset_and_drift_are_found_in_spite_of_outliers() {
        let mut builder = TimingBuilder::default();
        for recording in 0..3 {
            let planted = |i: i32| if i % 10 == 9 { 900.0 } else { 40.0 + 120.0 * f64::from(i) / 60.0 };
            builder.add("r", &clip((0..120).map(|i| (f64::from(i + recording), planted(i)))));
        }
        let timing = builder.finish(1).unwrap();
        assert_eq!(timing.words, 360);
        assert!((timing.slope_ms_per_min.unwrap() - 120.0).abs() < 6.0, "{timing:?}");
        assert!(timing.slope_interval.is_some_and(|i| i.low <= 120.0 + 6.0 && i.high >= 120.0 - 6.0), "{timing:?}");
        assert_eq!(timing.end, None);
    }

    #[test]
    fn planted_slopes_lie_in_their_intervals_and_offsets_are_apart_from_them() {
        let mut inside = 0;
        for case in 0..40_u32 {
            let mut random = stream(u64::from(case), &["planted"]);
            let (offset, per_min) = (f64::from(case) * 13.0 - 250.0, f64::from(case * 7 % 40) * 30.0 - 600.0);
            let jitter = |random: &mut crate::stats::Stream| (random.random::<f64>() - 0.5) * 80.0;
            let words = (0..250).map(|i| f64::from(i) * 0.37);
            let mut builder = TimingBuilder::default();
            builder.add("r", &clip(words.map(|at_s| (at_s, offset + per_min * at_s / 60.0 + jitter(&mut random)))));
            let timing = builder.finish(7).unwrap();
            let interval = timing.slope_interval.unwrap();
            inside += u32::from(interval.low <= per_min && per_min <= interval.high);
            assert!(interval.half_width() < 25.0, "{timing:?}");
            assert!((timing.offset_ms.unwrap() - offset).abs() < 20.0, "{timing:?}");
            assert_eq!((timing.jumps.len(), timing.faults), (0, None));
        }
        // A 95 % interval of a bootstrap with ten stretches is a little narrow.
        assert!(inside >= 34, "{inside} of 40 slopes lie in their intervals");
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
