//! Time from the end of each word to when it last changed, median.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_settled_p50",
    name: "live words settled, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &SETTLED,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: true,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["settles words sooner than", "settles words later than"],
    about: "time from the end of each word until its text no longer changed, median",
    explained: "Live delivery: the time from the end of each word until its text no longer changed, median. Words and \
                speech begin and end where the label says.",
    source: "",
};

/// Milliseconds from the end of each word to when it last changed.
pub(super) static SETTLED: Fact = Fact {
    id: "live_settled",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.settled_ms.iter().copied());
        }
    },
};
