//! Must-hear terms found, over those heard.

use super::TERMS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "term_precision",
    name: "term precision",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &TERMS,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[0] + row[2], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["invents more must-hear terms than", "invents fewer must-hear terms than"],
    about: "must-hear terms found, over those heard",
    explained: "The share of the must-hear terms heard that were said in the same clip. A term counts as invented \
                wherever it is heard, also in clips that do not list it.",
    source: "",
};
