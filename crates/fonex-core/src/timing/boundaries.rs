//! Where an engine cuts a long recording into segments or chapters, against where the label cuts it.

use serde::{Deserialize, Serialize};

use crate::{Clip, Heard};

/// Boundaries found, missed and invented, over the clips whose label and result both have segments.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Boundaries {
    /// Clips with segments on both sides.
    pub clips: u64,
    /// Boundaries in the labels.
    pub labelled: u64,
    /// Boundaries in the results.
    pub heard: u64,
    /// What counts as found within each tolerance.
    pub within: Vec<BoundariesWithin>,
}

/// Boundaries within one tolerance.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct BoundariesWithin {
    /// How far from its label a boundary may lie, in seconds.
    pub tolerance_s: f64,
    /// Boundaries found.
    pub found: u64,
    /// Found of those the engine set; null where it set none.
    pub precision: Option<f64>,
    /// Found of those in the labels; null without any.
    pub recall: Option<f64>,
    /// Harmonic mean of the two.
    pub f1: Option<f64>,
}

/// The tolerances reported, in seconds.
const TOLERANCES_S: [f64; 4] = [0.25, 0.5, 1.0, 2.0];

/// Builds [`Boundaries`].
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct BoundariesBuilder {
    clips: u64,
    labelled: u64,
    heard: u64,
    found: [u64; TOLERANCES_S.len()],
}

impl BoundariesBuilder {
    /// Adds a clip; passed over where a side has no segments. A boundary is the start of a segment but the first.
    pub fn add(&mut self, clip: &Clip, heard: &Heard) {
        if clip.segments.is_empty() || heard.segments.is_empty() {
            return;
        }
        let starts = |starts: &mut dyn Iterator<Item = f64>| {
            let mut starts: Vec<f64> = starts.collect();
            starts.sort_unstable_by(f64::total_cmp);
            starts.split_off(1)
        };
        let labelled = starts(&mut clip.segments.iter().map(|segment| segment.start));
        let set = starts(&mut heard.segments.iter().map(|segment| segment.start));
        self.clips += 1;
        self.labelled += labelled.len() as u64;
        self.heard += set.len() as u64;
        for (found, tolerance) in self.found.iter_mut().zip(TOLERANCES_S) {
            *found += pairs_within(&labelled, &set, tolerance);
        }
    }

    /// Adds what another builder counted.
    pub fn merge(&mut self, other: &Self) {
        self.clips += other.clips;
        self.labelled += other.labelled;
        self.heard += other.heard;
        self.found.iter_mut().zip(other.found).for_each(|(mine, theirs)| *mine += theirs);
    }

    /// The report; none where no clip has segments on both sides.
    #[must_use]
    pub fn finish(&self) -> Option<Boundaries> {
        let share = |part: u64, whole: u64| (whole > 0).then(|| part as f64 / whole as f64);
        let within = self.found.iter().zip(TOLERANCES_S).map(|(&found, tolerance_s)| BoundariesWithin {
            tolerance_s,
            found,
            precision: share(found, self.heard),
            recall: share(found, self.labelled),
            f1: share(2 * found, self.heard + self.labelled),
        });
        (self.clips > 0).then(|| Boundaries {
            clips: self.clips,
            labelled: self.labelled,
            heard: self.heard,
            within: within.collect(),
        })
    }
}

/// The most pairs of one boundary each that lie within the tolerance. Both sides are sorted, so pairing the earliest that
/// fit is best.
fn pairs_within(labelled: &[f64], set: &[f64], tolerance_s: f64) -> u64 {
    let (mut i, mut j, mut pairs) = (0, 0, 0);
    while i < labelled.len() && j < set.len() {
        let late_by = set[j] - labelled[i];
        // A millionth of a second forgives decimal times that do not fit a binary fraction.
        if late_by.abs() <= tolerance_s + 1e-6 {
            pairs += 1;
            i += 1;
            j += 1;
        } else if late_by < 0.0 {
            j += 1;
        } else {
            i += 1;
        }
    }
    pairs
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::TimedWord;

    #[test]
    fn boundaries_by_hand() {
        let cut = |starts: &[f64]| -> Vec<TimedWord> {
            starts.iter().map(|&start| TimedWord { text: String::new(), start, end: start + 1.0 }).collect()
        };
        let clip = Clip { segments: cut(&[0.0, 10.0, 20.0, 30.0]), ..Clip::default() };
        let heard = Heard { segments: cut(&[0.3, 10.2, 10.4, 21.0, 45.0]), ..Heard::default() };
        let mut builder = BoundariesBuilder::default();
        builder.add(&clip, &heard);
        let report = builder.finish().unwrap();
        assert_eq!((report.labelled, report.heard), (3, 4));
        assert_eq!(report.within.iter().map(|w| w.found).collect::<Vec<_>>(), [1, 1, 2, 2]);
        assert_eq!(report.within[2].precision, Some(0.5));
    }
}
