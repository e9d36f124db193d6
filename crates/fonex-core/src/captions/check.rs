//! Whether captions that exist can be read: their pace, their length, their lines, what lies between them.

use serde::{Deserialize, Serialize};

use super::{Caption, CaptionRule};
use crate::latency::Percentiles;

/// What was found in a caption file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct CaptionCheck {
    /// Captions.
    pub captions: u64,
    /// Characters a second of each caption.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub characters_per_s: Option<Percentiles>,
    /// Kinds of faults that occur, in the order of their declaration.
    pub faults: Vec<CaptionFaultCount>,
}

/// How often one fault occurs, and where first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct CaptionFaultCount {
    /// The fault.
    pub fault: CaptionFault,
    /// Captions with it.
    pub captions: u64,
    /// Numbers of the first few of them, from 1.
    pub first: Vec<u64>,
}

/// What may be wrong with a caption.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum CaptionFault {
    /// It has more characters a second than a reader follows.
    TooFast,
    /// It stands shorter than it must.
    TooShort,
    /// It stands longer than it may.
    TooLong,
    /// A line has more characters than fit.
    LineTooLong,
    /// It has more lines than fit.
    TooManyLines,
    /// It begins before the one before it ends.
    Overlaps,
    /// It follows the one before it so closely that the change is not seen.
    NoGap,
    /// It begins before the one before it begins, or ends before it starts.
    OutOfOrder,
}

impl CaptionFault {
    /// Every fault.
    pub const ALL: [Self; 8] = [
        Self::TooFast,
        Self::TooShort,
        Self::TooLong,
        Self::LineTooLong,
        Self::TooManyLines,
        Self::Overlaps,
        Self::NoGap,
        Self::OutOfOrder,
    ];

    /// Its name for people.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::TooFast => "too fast to read",
            Self::TooShort => "stands too short",
            Self::TooLong => "stands too long",
            Self::LineTooLong => "line too long",
            Self::TooManyLines => "too many lines",
            Self::Overlaps => "overlaps the one before",
            Self::NoGap => "no gap before it",
            Self::OutOfOrder => "out of order",
        }
    }
}

/// Numbers listed of each fault.
const LISTED: usize = 5;
/// Times are written in thousandths; what is within two of them is equal.
const SLACK_S: f64 = 0.002;

/// Checks captions in the order of their file. Cost is linear in them.
#[must_use]
pub fn check_captions(captions: &[Caption], rule: &CaptionRule) -> CaptionCheck {
    let speed = |caption: &Caption| caption.characters() as f64 / (caption.end - caption.start).max(1e-3);
    let has = |at: usize, fault: CaptionFault| {
        let caption = &captions[at];
        let stands_s = caption.end - caption.start;
        let gap_s = at.checked_sub(1).map(|before| caption.start - captions[before].end);
        let backwards = caption.end < caption.start || at > 0 && caption.start < captions[at - 1].start;
        match fault {
            CaptionFault::TooFast => speed(caption) > rule.characters_per_s * 1.001,
            CaptionFault::TooShort => stands_s < rule.shortest_s - SLACK_S && stands_s >= 0.0,
            CaptionFault::TooLong => stands_s > rule.longest_s + SLACK_S,
            CaptionFault::LineTooLong => caption.lines.iter().any(|line| line.chars().count() > rule.line_characters),
            CaptionFault::TooManyLines => caption.lines.len() > rule.lines,
            CaptionFault::Overlaps => !backwards && gap_s.is_some_and(|gap| gap < -SLACK_S),
            CaptionFault::NoGap => gap_s.is_some_and(|gap| gap >= -SLACK_S && gap < rule.gap_s - SLACK_S),
            CaptionFault::OutOfOrder => backwards,
        }
    };
    let faults = CaptionFault::ALL.into_iter().filter_map(|fault| {
        let with: Vec<u64> = (0..captions.len()).filter(|at| has(*at, fault)).map(|at| at as u64 + 1).collect();
        let first = with.iter().take(LISTED).copied().collect();
        (!with.is_empty()).then_some(CaptionFaultCount { fault, captions: with.len() as u64, first })
    });
    let speeds: Vec<f64> = captions.iter().filter(|caption| caption.end > caption.start).map(speed).collect();
    CaptionCheck {
        captions: captions.len() as u64,
        characters_per_s: Percentiles::of(&speeds),
        faults: faults.collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_by_hand() {
        let caption = |start: f64, end: f64, lines: &[&str]| Caption {
            start,
            end,
            lines: lines.iter().map(|line| (*line).to_owned()).collect(),
            words: Vec::new(),
        };
        let long = "x".repeat(43);
        let captions = [
            caption(0.0, 2.0, &["Hold at pylon six."]),
            caption(2.02, 2.5, &["Now."]),
            caption(2.4, 12.0, &[&long]),
            caption(13.0, 14.0, &["one", "two and a lot more of it", "three"]),
            caption(9.0, 10.0, &["back"]),
        ];
        let check = check_captions(&captions, &CaptionRule::default());
        let found: Vec<(CaptionFault, &[u64])> = check.faults.iter().map(|f| (f.fault, f.first.as_slice())).collect();
        assert_eq!(
            found,
            [
                (CaptionFault::TooFast, &[4][..]),
                (CaptionFault::TooShort, &[2]),
                (CaptionFault::TooLong, &[3]),
                (CaptionFault::LineTooLong, &[3]),
                (CaptionFault::TooManyLines, &[4]),
                (CaptionFault::Overlaps, &[3]),
                (CaptionFault::NoGap, &[2]),
                (CaptionFault::OutOfOrder, &[5]),
            ]
        );
    }
}
