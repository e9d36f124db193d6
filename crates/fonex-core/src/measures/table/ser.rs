//! Clips with at least one wrong word, over all clips.

use super::{WORDS, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "ser",
    name: "SER",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORDS,
    estimator: Estimator::Ratio {
        part: |row| yes(row[1] + row[2] + row[3] > 0.0),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["gets fewer clips wrong than", "gets more clips wrong than"],
    about: "clips with at least one wrong word, over all clips",
    explained: "Sentence error rate: the share of clips with at least one wrong word. A repeated clip counts once, \
                by the share of its repeats that have an error.",
    source: "",
};
