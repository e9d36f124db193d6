//! Words heard right that start within 50 ms of their label.

use super::{WORD_STARTS, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "words_within_50ms",
    name: "starts within 50 ms",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &WORD_STARTS,
    estimator: Estimator::Ratio {
        part: |row| yes(row[1].abs() <= 50.0 + 1e-6),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["has fewer words within 50 ms than", "has more words within 50 ms than"],
    about: "words heard right that start within 50 ms of their label",
    explained: "The share of the words heard right whose start lies within 50 ms of the labelled one.",
    source: "",
};
