//! Answers with a single pulse that belongs to no sound around it, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_with_clicks",
    name: "clips with clicks",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["clicks less often than", "clicks more often than"],
    about: "answers with an isolated pulse, over all answers",
    explained: "The share of the answers with at least one pulse that is five times as high as everything within 20 \
                ms, in the second difference of the samples.",
    source: "after Godsill and Rayner, Digital audio restoration, 1998",
};
