//! Answers with mains hum in their silences, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_with_hum",
    name: "clips with hum",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[2], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["hums less often than", "hums more often than"],
    about: "answers with mains hum in their silences, over all answers",
    explained: "The share of the answers in whose silences at least two of the first four multiples of 50 or 60 Hz \
                rise 12 dB above their neighbourhood. Without a silence of 0.2 s none is found.",
    source: "",
};
