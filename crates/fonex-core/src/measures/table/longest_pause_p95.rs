//! The longest pause of an answer.

use super::PAUSES;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "longest_pause_p95",
    name: "longest pause, p95",
    unit: Unit::S,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &PAUSES,
    estimator: Estimator::Quantile(0.95, |row| row[2]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["makes shorter pauses than", "makes longer pauses than"],
    about: "95th percentile of the longest pause inside an answer",
    explained: "The longest pause inside each answer, 95th percentile over trials.",
    source: "",
};
