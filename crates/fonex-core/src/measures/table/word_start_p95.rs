//! Absolute difference of the word starts, 95th percentile.

use super::WORD_STARTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "word_start_p95",
    name: "|word start|, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORD_STARTS,
    estimator: Estimator::Quantile(0.95, |row| row[1].abs()),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["places words closer than", "places words further off than"],
    about: "absolute difference of the word starts, 95th percentile",
    explained: "One word in twenty that was heard right starts further from its label than this.",
    source: "",
};
