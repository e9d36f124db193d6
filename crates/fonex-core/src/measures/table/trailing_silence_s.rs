//! Silence after the last sound.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "trailing_silence_s",
    name: "trailing silence, median",
    unit: Unit::S,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &TRAILING_SILENCE_S,
    estimator: Estimator::Quantile(0.5, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["ends with less silence than", "ends with more silence than"],
    about: "silence after the last sound",
    explained: "The silence after the last sound of an answer, median over trials.",
    source: "",
};

/// A number of the sound spoken.
static TRAILING_SILENCE_S: Fact = Fact {
    id: "trailing_silence_s",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.silence.trailing_s)),
};
