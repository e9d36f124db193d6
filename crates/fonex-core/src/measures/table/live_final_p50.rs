//! Time from the end of speech to the last final result, median.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_final_p50",
    name: "live final result, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FINAL_AFTER,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["ends sooner after speech than", "ends later after speech than"],
    about: "time from the end of speech to the last final result, median",
    explained: "Live delivery: the time from the end of speech to the last final result, median. Words and speech \
                begin and end where the label says.",
    source: "",
};

/// Milliseconds from the end of speech to the last final result.
pub(super) static FINAL_AFTER: Fact = Fact {
    id: "live_final",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.final_after_ms);
        }
    },
};
