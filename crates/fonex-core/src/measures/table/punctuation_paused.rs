//! Pauses where the text has a sign.

use super::PHRASING;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "punctuation_paused",
    name: "punctuation with a pause",
    unit: Unit::Share,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PHRASING,
    estimator: Estimator::Ratio { part: |row| row[1], whole: |row| row[2], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["pauses at punctuation less often than", "pauses at punctuation more often than"],
    about: "signs of punctuation between words at which the voice pauses, over all of them",
    explained: "The share of the signs of punctuation between words, the last sign of a text left out, at which the voice pauses for a quarter of a second or more.",
    source: "Gale and Church, A program for aligning sentences in bilingual corpora, 1993",
};
