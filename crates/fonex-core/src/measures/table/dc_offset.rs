//! Whether the sound sits beside zero.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "dc_offset",
    name: "DC offset, median",
    unit: Unit::Ratio,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &DC,
    estimator: Estimator::Quantile(0.5, |row| row[0]),
    asked: false,
    matters: Matters::Amount(0.001),
    rare: false,
    says: ["has less DC offset than", "has more DC offset than"],
    about: "absolute mean of all samples; full scale is 1",
    explained: "The absolute mean of all samples of an answer, where full scale is 1; median over trials.",
    source: "",
};

/// Absolute mean of the samples.
static DC: Fact = Fact {
    id: "dc",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.dc_offset.abs())),
};
