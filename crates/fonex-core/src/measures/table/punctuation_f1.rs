//! Punctuation signs found, missed and invented behind the words both sides have.

use super::{counts, f1};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "punctuation_f1",
    name: "punctuation F1",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &PUNCTUATION,
    estimator: Estimator::Smooth(f1),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["punctuates worse than", "punctuates better than"],
    about: "punctuation signs found, missed and invented behind the words both sides have",
    explained: "F1 of the punctuation signs around the words, over the words as written with case folded. Left out \
                where labels or results write none at all.",
    source: "van Rijsbergen 1979",
};

/// Signs found, missed and invented.
static PUNCTUATION: Fact = Fact {
    id: "punctuation",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| counts(trial.hearing.map(|hearing| hearing.punctuation), row),
};
