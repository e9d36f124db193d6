//! Time from the end of each word to when it was first shown, p95.

use super::live_shown_p50::SHOWN;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_shown_p95",
    name: "live words shown, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &SHOWN,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["shows words sooner than", "shows words later than"],
    about: "time from the end of each word to when it was first shown, p95",
    explained: "Live delivery: the time from the end of each word to when it was first shown, 95th percentile. Words \
                and speech begin and end where the label says.",
    source: "",
};
