//! Time from the end of each word to when it was first shown, median.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_shown_p50",
    name: "live words shown, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &SHOWN,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["shows words sooner than", "shows words later than"],
    about: "time from the end of each word to when it was first shown, median",
    explained: "Live delivery: the time from the end of each word to when it was first shown, median. Words and \
                speech begin and end where the label says.",
    source: "",
};

/// Milliseconds from the end of each word to when it was first shown.
pub(super) static SHOWN: Fact = Fact {
    id: "live_shown",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.shown_ms.iter().copied());
        }
    },
};
