//! Trials that ended as unclear, over all timed trials.

use super::{OUTCOME, is, yes};
use crate::measures::{Better, Estimator, Matters, Measure, Unit};
use crate::{Outcome, Task};

pub(super) static MEASURE: Measure = Measure {
    id: "outcome_unclear",
    name: "trials unclear",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &OUTCOME,
    estimator: Estimator::Ratio {
        part: |row| yes(is(row, Outcome::Unclear)),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["fails to understand less often than", "fails to understand more often than"],
    about: "trials that ended as unclear, over all timed trials",
    explained: "The share of the timed trials that ended as \"unclear\": the engine could not understand.",
    source: "",
};
