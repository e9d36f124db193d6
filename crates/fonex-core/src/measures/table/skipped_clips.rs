//! Clips with a skipped stretch, of a recogniser or of the voice it hears.

use super::{GAPS, LEAST_WORDS, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "skipped_clips",
    name: "clips with a skipped stretch",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &GAPS,
    estimator: Estimator::Ratio {
        part: |row| yes(row[0] >= LEAST_WORDS),
        whole: |_| 1.0,
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["skips stretches less often than", "skips stretches more often than"],
    about: "clips in which four words in a row or more were not heard, over all clips",
    explained: "The share of clips in which four words in a row or more are missing from what was heard: a recogniser that drops a stretch, or a voice that skips one.",
    source: "",
};
