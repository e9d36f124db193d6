//! Time from the end of speech to the last final result, p95.

use super::live_final_p50::FINAL_AFTER;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_final_p95",
    name: "live final result, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FINAL_AFTER,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["ends sooner after speech than", "ends later after speech than"],
    about: "time from the end of speech to the last final result, p95",
    explained: "Live delivery: the time from the end of speech to the last final result, 95th percentile. Words and \
                speech begin and end where the label says.",
    source: "",
};
