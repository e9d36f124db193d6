//! Clips in which nobody speaks and words were heard, over clips in which nobody speaks.

use super::yes;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "words_over_silence",
    name: "words over silence",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &OVER_SILENCE,
    estimator: Estimator::Ratio { part: |row| yes(row[0] > 0.0), whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["invents words in fewer silent clips than", "invents words in more silent clips than"],
    about: "clips in which nobody speaks and words were heard, over clips in which nobody speaks",
    explained: "The share of the clips with an empty label for which the engine returned words.",
    source: "",
};

/// Words heard in a clip in which nobody speaks.
static OVER_SILENCE: Fact = Fact {
    id: "over_silence",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let silent = trial.hearing.filter(|hearing| hearing.words.reference() == 0);
        row.extend(silent.map(|hearing| hearing.words.inserted as f64));
    },
};
