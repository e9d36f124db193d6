//! Root mean square level of the sound spoken.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "level_dbfs",
    name: "level, median",
    unit: Unit::Dbfs,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &LEVEL_DBFS,
    estimator: Estimator::Median(|row| row[0], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["is quieter than", "is louder than"],
    about: "root mean square level of the sound spoken",
    explained: "The root mean square level of the sound relative to full scale, median over trials.",
    source: "",
};

/// A number of the sound spoken.
static LEVEL_DBFS: Fact = Fact {
    id: "level_dbfs",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.and_then(|spoken| spoken.level_dbfs)),
};
