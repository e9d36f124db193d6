//! Trials that ended without an answer, over all timed trials.

use super::{OUTCOME, is, yes};
use crate::measures::{Better, Estimator, Measure, Unit};
use crate::{Outcome, Task};

pub(super) static MEASURE: Measure = Measure {
    id: "unanswered",
    name: "trials without an answer",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &OUTCOME,
    estimator: Estimator::Ratio { part: |row| yes(!answered(row)), whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: true,
    rare: true,
    says: ["fails less often than", "fails more often than"],
    about: "trials that ended without an answer, over all timed trials",
    explained: "The share of the timed trials that ended in any other way than done or nothing.",
    source: "",
};

fn answered(row: &[f64]) -> bool {
    Outcome::ALL.iter().any(|outcome| outcome.is_answer() && is(row, *outcome))
}
