//! How fast the pitch moves.

use super::PITCH;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pitch_movement",
    name: "pitch movement, median",
    unit: Unit::SemitonesPerS,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PITCH,
    estimator: Estimator::Median(|row| row[2], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["moves its pitch less than", "moves its pitch more than"],
    about: "mean of the absolute changes of pitch while voiced, in semitones a second",
    explained: "The mean absolute change of the pitch over 50 ms while voiced, in semitones a second, median over trials.",
    source: "Talkin, A robust algorithm for pitch tracking, 1995",
};
