//! Time to the first text or sound of answers that came in pieces.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "first_piece_p50",
    name: "first piece, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &FIRST,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["gives a first piece sooner than", "gives a first piece later than"],
    about: "time to the first text or sound of answers that came in pieces",
    explained: "The median time until the first text or sound arrived, over the answers that came in pieces.",
    source: "",
};

/// Milliseconds until the first piece.
static FIRST: Fact = Fact {
    id: "first_piece",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.first_ms),
};
