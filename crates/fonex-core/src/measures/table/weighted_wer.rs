//! Weights of the wrong words over the weights of the words said.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "weighted_wer",
    name: "weighted WER",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WEIGHTED,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: f64::INFINITY },
    asked: false,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["gets less of the weighted words wrong than", "gets more of the weighted words wrong than"],
    about: "weights of the wrong words over the weights of the words said",
    explained: "The WER with every word counted by its weight in the project's list; a word that is not listed \
                weighs 1. A substituted or deleted word weighs as what was said, an inserted one as what was heard.",
    source: "",
};

/// Weights of the wrong words and of the words said.
static WEIGHTED: Fact = Fact {
    id: "weighted",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some([said, wrong]) = trial.hearing.and_then(|hearing| hearing.weighted) {
            row.extend([wrong, said]);
        }
    },
};
