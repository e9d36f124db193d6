//! Clips in which every term they list was heard, over clips that list some.

use super::yes;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "clips_with_all_terms",
    name: "clips with every term",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &ALL_TERMS,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["has fewer clips with every term than", "has more clips with every term than"],
    about: "clips in which every term they list was heard, over clips that list some",
    explained: "The share of the clips that list must-hear terms in which every one of them was heard.",
    source: "",
};

/// Whether every term that the clip lists was heard.
static ALL_TERMS: Fact = Fact {
    id: "all_terms",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.hearing.and_then(|hearing| hearing.all_terms).map(yes)),
};
