//! Clips that run on, of a recogniser or of the voice it hears.

use super::{GAPS, LEAST_WORDS, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "runaway_clips",
    name: "clips that run on",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &GAPS,
    estimator: Estimator::Ratio {
        part: |row| yes(row[1] >= LEAST_WORDS),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["runs on after the text less often than", "runs on after the text more often than"],
    about: "clips in which four words or more were heard after the last one said, over all clips",
    explained: "The share of clips in which four words or more are heard after the last one of the text: a recogniser that invents, or a voice that goes on speaking.",
    source: "",
};
