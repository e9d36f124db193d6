//! Answers that begin or end in the middle of a sound, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_cut_off",
    name: "clips cut off",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[3], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["is cut off less often than", "is cut off more often than"],
    about: "answers that begin or end in the middle of a sound, over all answers",
    explained: "The share of the answers whose first or last hundredth of a second is within 12 dB of the level of the speech.",
    source: "",
};
