//! Wrong words over all trials, one without an answer counted as an empty text.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "wer_failures_as_empty",
    name: "WER, failures as empty",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORDS_OF_ALL,
    estimator: Estimator::Ratio {
        part: |row| row[1] + row[2] + row[3],
        whole: |row| row[0] + row[1] + row[2],
        bounds: (0.0, 1.0),
        most: f64::INFINITY,
    },
    asked: false,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["gets fewer words wrong, failures counted, than", "gets more words wrong, failures counted, than"],
    about: "wrong words over all trials, one without an answer counted as an empty text",
    explained: "The WER over all trials, with every trial that has no answer counted as an empty result: each of its \
                words is deleted. It equals the WER where every trial was answered.",
    source: "Levenshtein 1966",
};

/// Word counts of every trial.
static WORDS_OF_ALL: Fact =
    Fact { id: "words_of_all", version: 0, width: 4, timed: false, of: Trials::All, observe: super::words };
