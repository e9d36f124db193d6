//! Trials that ended without an answer, over all timed trials.

use super::yes;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "unanswered",
    name: "trials without an answer",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &UNANSWERED,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: true,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["fails less often than", "fails more often than"],
    about: "trials that ended without an answer, over all timed trials",
    explained: "The share of the timed trials that ended in any other way than done or nothing.",
    source: "",
};

/// Whether a trial has no answer; of results read from a file, whether a clip has no result.
static UNANSWERED: Fact = Fact {
    id: "unanswered",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::All,
    observe: |trial, row| row.push(yes(!trial.outcome.is_answer())),
};
