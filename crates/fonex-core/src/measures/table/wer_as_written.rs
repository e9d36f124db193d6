//! Wrong words without any text profile.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "wer_as_written",
    name: "WER as written",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &AS_WRITTEN,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: f64::INFINITY },
    asked: false,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["is closer to the labels as written than", "is further from the labels as written than"],
    about: "wrong words without any text profile",
    explained: "The WER of the texts as they are written: capitals, punctuation and number forms count. The \
                difference from the WER is what the text profile forgives.",
    source: "Levenshtein 1966",
};

/// Wrong words and words said of the texts as they are written.
static AS_WRITTEN: Fact = Fact {
    id: "as_written",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(hearing) = trial.hearing {
            row.extend([hearing.as_written.errors() as f64, hearing.as_written.reference() as f64]);
        }
    },
};
