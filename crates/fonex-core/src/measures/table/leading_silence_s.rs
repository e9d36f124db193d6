//! Silence before the first sound.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "leading_silence_s",
    name: "leading silence, median",
    unit: Unit::S,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &LEADING_SILENCE_S,
    estimator: Estimator::Quantile(0.5, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["begins with less silence than", "begins with more silence than"],
    about: "silence before the first sound",
    explained: "The silence before the first sound of an answer, median over trials. A listener waits for it.",
    source: "",
};

/// A number of the sound spoken.
static LEADING_SILENCE_S: Fact = Fact {
    id: "leading_silence_s",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.silence.leading_s)),
};
