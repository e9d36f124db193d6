//! Answers with clipped stretches, over all answers.

use super::yes;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clipped_clips",
    name: "clips with clipping",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &CLIPPED,
    estimator: Estimator::Ratio { part: |row| yes(row[0] > 0.0), whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: true,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["clips less often than", "clips more often than"],
    about: "answers with clipped stretches, over all answers",
    explained: "The share of the answers with at least one stretch of clipped samples.",
    source: "",
};

/// The share of clipped samples.
static CLIPPED: Fact = Fact {
    id: "clipped",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.clipped_share)),
};
