//! Capitals found, missed and invented, word by word.

use super::{counts, f1};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "capitals_f1",
    name: "capitals F1",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &CAPITALS,
    estimator: Estimator::Smooth(f1),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["capitalises worse than", "capitalises better than"],
    about: "capitals found, missed and invented, word by word",
    explained: "F1 of the words that begin with a capital, or hold one, each held against the word it is paired with. \
                Left out where labels or results write none at all.",
    source: "van Rijsbergen 1979",
};

/// Capitals found, missed and invented.
static CAPITALS: Fact = Fact {
    id: "capitals",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| counts(trial.hearing.map(|hearing| hearing.capitals), row),
};
