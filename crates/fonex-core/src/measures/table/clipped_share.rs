//! Share of the samples in clipped stretches.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clipped_share",
    name: "clipped samples, mean",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &CLIPPED_SHARE,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 0.1), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.000_1),
    rare: false,
    says: ["clips fewer samples than", "clips more samples than"],
    about: "share of the samples in clipped stretches",
    explained: "The share of an answer's samples that lie in clipped stretches, mean over trials.",
    source: "",
};

/// A number of the sound spoken.
static CLIPPED_SHARE: Fact = Fact {
    id: "clipped_share",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.clipped_share)),
};
