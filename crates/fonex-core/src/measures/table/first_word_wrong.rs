//! Clips whose first word is wrong, over clips in which somebody speaks: what a late start of an engine costs.

use super::yes;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "first_word_wrong",
    name: "first word wrong",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FIRST_WORD,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["gets the first word wrong in fewer clips than", "gets the first word wrong in more clips than"],
    about: "clips whose first word was not heard right, over clips in which somebody speaks",
    explained: "The share of clips whose first labelled word was dropped or taken for another. Words invented before it do \
                not count. Far above the rate of other words it points to speech that is cut off at the start.",
    source: "",
};

/// Whether the first word said was not heard right.
static FIRST_WORD: Fact = Fact {
    id: "first_word",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.hearing.and_then(|hearing| hearing.first_word_wrong).map(yes)),
};
