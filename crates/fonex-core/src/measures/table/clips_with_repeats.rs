//! Answers in which a stretch of sound comes twice, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_with_repeats",
    name: "clips with repeated sound",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[4], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["repeats sound less often than", "repeats sound more often than"],
    about: "answers in which a stretch of sound comes twice, over all answers",
    explained: "The share of the answers in which a stretch of half a second to three seconds comes twice in a row, sample by sample: a buffer that was played again.",
    source: "",
};
