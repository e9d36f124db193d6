//! Largest resident memory of the engine in a trial.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "peak_memory_kib",
    name: "peak memory, median",
    unit: Unit::Kib,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &MEMORY,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["needs less memory than", "needs more memory than"],
    about: "largest resident memory of the engine in a trial",
    explained: "The largest resident memory of the engine's process during a trial, median over trials, where the \
                engine is a program that Fonex started.",
    source: "",
};

/// Peak memory of the engine in KiB.
static MEMORY: Fact = Fact {
    id: "peak_memory",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.peak_memory_kib.map(|kib| kib as f64)),
};
