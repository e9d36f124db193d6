//! Pauses where the text has none.

use super::PHRASING;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pauses_in_phrases",
    name: "pauses inside phrases",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &PHRASING,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[0] + row[1], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["pauses inside phrases less often than", "pauses inside phrases more often than"],
    about: "pauses of 0.25 s and more that lie inside phrases, over all pauses",
    explained: "The share of the pauses that lie inside a phrase instead of at punctuation. Pauses are matched with the punctuation of the text by the lengths between them, in syllables; no recogniser is needed.",
    source: "Gale and Church, A program for aligning sentences in bilingual corpora, 1993",
};
