//! Trials that ended as nothing, over all timed trials.

use super::{OUTCOME, is, yes};
use crate::measures::{Better, Estimator, Matters, Measure, Unit};
use crate::{Outcome, Task};

pub(super) static MEASURE: Measure = Measure {
    id: "outcome_nothing",
    name: "trials nothing",
    unit: Unit::Share,
    better: Better::Neither,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &OUTCOME,
    estimator: Estimator::Ratio {
        part: |row| yes(is(row, Outcome::Nothing)),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["hears nothing less often than", "hears nothing more often than"],
    about: "trials that ended as nothing, over all timed trials",
    explained: "The share of the timed trials that ended as \"nothing\": the engine answered that there were no \
                words.",
    source: "",
};
