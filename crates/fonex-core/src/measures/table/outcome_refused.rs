//! Trials that ended as refused, over all timed trials.

use super::{OUTCOME, is, yes};
use crate::measures::{Better, Estimator, Matters, Measure, Unit};
use crate::{Outcome, Task};

pub(super) static MEASURE: Measure = Measure {
    id: "outcome_refused",
    name: "trials refused",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &OUTCOME,
    estimator: Estimator::Ratio {
        part: |row| yes(is(row, Outcome::Refused)),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["declines less often than", "declines more often than"],
    about: "trials that ended as refused, over all timed trials",
    explained: "The share of the timed trials that ended as \"refused\": the engine declined: quota, unsupported \
                input, too long.",
    source: "",
};
