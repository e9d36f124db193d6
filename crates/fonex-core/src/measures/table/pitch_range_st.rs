//! How far the pitch moves within an answer.

use super::PITCH;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pitch_range_st",
    name: "pitch range, median",
    unit: Unit::Semitones,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PITCH,
    estimator: Estimator::Median(|row| row[1], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.25),
    rare: false,
    says: ["speaks flatter than", "speaks in a wider range than"],
    about: "from the 5th to the 95th percentile of the pitch within an answer",
    explained: "The distance from the 5th to the 95th percentile of the pitch within an answer in semitones, median over trials. Below five a voice sounds flat, above fourteen lively.",
    source: "Talkin, A robust algorithm for pitch tracking, 1995",
};
