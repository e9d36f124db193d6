//! Harmonic mean of term recall and precision.

use super::TERMS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "term_f1",
    name: "term F1",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &TERMS,
    estimator: Estimator::Ratio {
        part: |row| 2.0 * row[0],
        whole: |row| 2.0 * row[0] + row[1] + row[2],
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["hears must-hear terms worse than", "hears must-hear terms better than"],
    about: "harmonic mean of term recall and precision",
    explained: "The harmonic mean of term recall and term precision, 2F / (2F + M + I) with F found, M missed and I \
                invented.",
    source: "van Rijsbergen 1979",
};
