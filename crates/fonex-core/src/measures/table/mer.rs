//! Wrong words over words said or heard.

use super::WORDS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "mer",
    name: "MER",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORDS,
    estimator: Estimator::Ratio {
        part: |row| row[1] + row[2] + row[3],
        whole: |row| row[0] + row[1] + row[2] + row[3],
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["gets a smaller share of words wrong than", "gets a larger share of words wrong than"],
    about: "wrong words over words said or heard",
    explained: "Match error rate: (S + D + I) / (N + I), the share of all words said or heard that are wrong; unlike \
                the WER it cannot exceed 100 %.",
    source: "Morris, Maier and Green 2004",
};
