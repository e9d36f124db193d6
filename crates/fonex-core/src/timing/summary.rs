//! Offsets over a set of clips: how late, how scattered, and whether they drift.

use serde::{Deserialize, Serialize};

use super::{ClipOffsets, Jump, TimeFaults, UNKNOWN_UNIT, jumps};
use crate::measures::Estimate;
use crate::stats::{Interval, median, quantile};

/// Word times against labels over a set of clips.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Timing {
    /// Words heard right that have times on both sides.
    pub words: u64,
    /// Differences of the starts; left out where no word has times on both sides in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<OffsetSummary>,
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
    /// Its 95 % interval: the measure `drift`. Short clips leave it wide.
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
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
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
    /// The unit of these, as how many of it make a second; left out where it is none that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_unit: Option<f64>,
}

/// A distribution of offsets, heard minus labelled.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
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
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
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
        self.faults.other_unit = self.faults.other_unit.or(offsets.unit.filter(|unit| *unit != UNKNOWN_UNIT));
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

    /// The summary, with the drift that was estimated of the same words. None when no clip has times on both sides, or none of
    /// its words.
    #[must_use]
    pub fn finish(mut self, drift: Option<&Estimate>) -> Option<Timing> {
        let words = || self.clips.iter().flat_map(|clip| &clip.words);
        let starts: Vec<f64> = words().map(|word| word.start_ms).collect();
        let ends: Vec<f64> = words().filter_map(|word| word.end_ms).collect();
        let durations: Vec<f64> = words().filter_map(|word| Some(word.end_ms? - word.start_ms)).collect();
        let faults = (self.faults != TimingFaults::default()).then_some(self.faults);
        let slope_ms_per_min = drift.map(|drift| drift.value);
        let level = |slope: f64| words().map(|word| word.start_ms - slope * word.at_s / 60.0).collect::<Vec<f64>>();
        let offset_ms = slope_ms_per_min.and_then(|slope| median(&level(slope)));
        self.jumps.truncate(MOST_JUMPS);
        if starts.is_empty() && faults.is_none() {
            return None;
        }
        Some(Timing {
            words: starts.len() as u64,
            start: OffsetSummary::of(&starts),
            end: OffsetSummary::of(&ends),
            duration: OffsetSummary::of(&durations),
            offset_ms,
            slope_ms_per_min,
            slope_interval: drift.and_then(|drift| drift.interval),
            jumps: self.jumps,
            faults,
        })
    }
}

#[cfg(test)]
mod tests {
    use rand::RngExt;

    use super::*;
    use crate::measures::{Sample, estimate, find};
    use crate::stats::{Stream, UnitKind, stream};
    use crate::timing::WordOffset;

    fn clip(offsets: impl Iterator<Item = (f64, f64)>) -> ClipOffsets {
        let words = offsets.map(|(at_s, start_ms)| WordOffset { at_s, start_ms, end_ms: None }).collect();
        ClipOffsets { words, ..ClipOffsets::default() }
    }

    fn timing(clips: &[ClipOffsets]) -> Timing {
        let mut builder = TimingBuilder::default();
        let mut sample = Sample::new(2, UnitKind::Clip);
        for (at, clip) in (0..).zip(clips) {
            builder.add("r", clip);
            let rows: Vec<f64> = clip.words.iter().flat_map(|word| [word.at_s, word.start_ms]).collect();
            sample.add(at, [rows.as_slice()].into_iter());
        }
        builder.finish(estimate(find("drift").unwrap().estimator, &sample).as_ref()).unwrap()
    }

    #[test]
    fn planted_offset_and_drift_are_found_in_spite_of_outliers() {
        let planted = |i: i32| if i % 10 == 9 { 900.0 } else { 40.0 + 120.0 * f64::from(i) / 60.0 };
        let recording = |at: i32| clip((0..120).map(|i| (f64::from(i + at), planted(i))));
        let timing = timing(&[0, 1, 2].map(recording));
        assert_eq!(timing.words, 360);
        assert!((timing.slope_ms_per_min.unwrap() - 120.0).abs() < 6.0, "{timing:?}");
        assert!(timing.slope_interval.is_some_and(|i| i.low <= 120.0 + 6.0 && i.high >= 120.0 - 6.0), "{timing:?}");
        assert_eq!(timing.end, None);
    }

    #[test]
    fn planted_slopes_lie_in_their_intervals_and_offsets_are_apart_from_them() {
        let mut inside = 0;
        for case in 0..60_u32 {
            let mut random = stream(u64::from(case), &["planted"]);
            let (offset, per_min) = (f64::from(case) * 13.0 - 250.0, f64::from(case * 7 % 40) * 30.0 - 600.0);
            let words = (0..250).map(|i| f64::from(i) * 0.37);
            let jitter = |random: &mut Stream| (random.random::<f64>() - 0.5) * 80.0;
            let timing =
                timing(&[clip(words.map(|at_s| (at_s, offset + per_min * at_s / 60.0 + jitter(&mut random))))]);
            let interval = timing.slope_interval.unwrap();
            inside += u32::from(interval.holds(per_min));
            assert!((timing.offset_ms.unwrap() - offset).abs() < 20.0, "{timing:?}");
            assert_eq!((timing.jumps.len(), timing.faults), (0, None));
        }
        assert!(inside >= 54, "{inside} of 60 slopes lie in their intervals");
    }

    /// The offset wanders as a damped random walk does, over a tenth of the recording: no drift, and no jump.
    #[test]
    fn wander_is_neither_drift_nor_jump() {
        let (mut inside, mut jumped) = (0, 0);
        for case in 0..200 {
            let mut random = stream(case, &["wander"]);
            let (mut wander, keep) = (0.0, (-1.0_f64 / 100.0).exp());
            let points: Vec<(f64, f64)> = (0..1_000)
                .map(|i| {
                    let step: f64 = (0..6).map(|_| random.random::<f64>() - 0.5).sum::<f64>() * 1.414;
                    wander = wander * keep + 60.0 * (1.0 - keep * keep).sqrt() * step;
                    (f64::from(i) * 0.4, wander + (random.random::<f64>() - 0.5) * 40.0)
                })
                .collect();
            let timing = timing(&[clip(points.into_iter())]);
            inside += u32::from(timing.slope_interval.unwrap().holds(0.0));
            jumped += u32::from(!timing.jumps.is_empty());
        }
        assert!(inside >= 184, "{inside} of 200 intervals hold no drift");
        assert!(jumped <= 10, "{jumped} of 200 recordings jump");
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
