//! Answers with a gap of nothing that begins and ends abruptly, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_with_dropouts",
    name: "clips with dropouts",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[1], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["drops out less often than", "drops out more often than"],
    about: "answers with a gap that begins and ends abruptly, over all answers",
    explained: "The share of the answers with a gap of 4 ms to 0.5 s below -76 dBFS, whose edges are as loud as \
                speech.",
    source: "",
};
