//! Answers in which nothing is heard, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "silent_clips",
    name: "silent answers",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[8], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["is silent less often than", "is silent more often than"],
    about: "answers that hold no sound above -80 dBFS, over all answers",
    explained: "The share of the answers whose level lies below -80 dBFS: sound was delivered, and nothing is in it.",
    source: "",
};
