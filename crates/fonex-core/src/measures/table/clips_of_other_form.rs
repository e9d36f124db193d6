//! Answers of another sample rate or container than the engine was asked for, over all answers.

use super::FAULTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_of_other_form",
    name: "clips of another form",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio { part: |row| row[7], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: [
        "has another sample rate than asked less often than",
        "has another sample rate than asked more often than",
    ],
    about: "answers whose sample rate or container is not what the engine was asked for, over all answers",
    explained: "The share of the answers whose sample rate or container is not the audio_rate_hz or audio_container that the bench file gives the engine. Zero where it gives none.",
    source: "",
};
