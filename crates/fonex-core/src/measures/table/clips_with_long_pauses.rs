//! Answers with a pause of two seconds or more inside, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_with_long_pauses",
    name: "clips with long pauses",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[5], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["has fewer answers with a long pause than", "has more answers with a long pause than"],
    about: "answers with a pause of two seconds or more inside, over all answers",
    explained: "The share of the answers with a pause inside that no speaker makes: two seconds and longer.",
    source: "",
};
