//! Answers with sound of which hardly any is voiced as speech is, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_without_speech",
    name: "clips without speech",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[6], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["has fewer answers without speech than", "has more answers without speech than"],
    about: "answers with sound but hardly any voiced speech, over all answers",
    explained: "The share of the answers with more than 0.3 s of sound of which less than 12 % is voiced.",
    source: "",
};
