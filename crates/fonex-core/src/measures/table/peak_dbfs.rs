//! Highest sample of the sound spoken.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "peak_dbfs",
    name: "peak, median",
    unit: Unit::Dbfs,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PEAK_DBFS,
    estimator: Estimator::Median(|row| row[0], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["peaks lower than", "peaks higher than"],
    about: "highest sample of the sound spoken",
    explained: "The highest sample of the sound relative to full scale, median over trials. 0 dBFS leaves no \
                headroom.",
    source: "",
};

/// A number of the sound spoken.
static PEAK_DBFS: Fact = Fact {
    id: "peak_dbfs",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.and_then(|spoken| spoken.peak_dbfs)),
};
