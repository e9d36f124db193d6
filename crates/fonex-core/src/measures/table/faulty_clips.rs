//! Answers with any fault of the audio.

use super::{FAULTS, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "faulty_clips",
    name: "clips with audio faults",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: Estimator::Ratio {
        part: |row| yes(row.contains(&1.0)),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: true,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["has fewer faulty answers than", "has more faulty answers than"],
    about: "answers with a click, dropout, hum, cut, repeat, long pause, no speech, silence or another sample rate or container than asked, over all answers",
    explained: "The share of the answers in which at least one fault of the audio was found; the measures of each kind say which. Clipping is counted apart.",
    source: "",
};
