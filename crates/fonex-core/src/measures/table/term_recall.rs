//! Must-hear terms found, over those said.

use super::TERMS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "term_recall",
    name: "term recall",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &TERMS,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[0] + row[1], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["misses more must-hear terms than", "misses fewer must-hear terms than"],
    about: "must-hear terms found, over those said",
    explained: "The share of the must-hear terms in the labels that were heard in the same clip, in any of their \
                readings.",
    source: "",
};
