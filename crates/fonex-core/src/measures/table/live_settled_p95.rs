//! Time from the end of each word to when it last changed, p95.

use super::live_settled_p50::SETTLED;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_settled_p95",
    name: "live words settled, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &SETTLED,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["settles words sooner than", "settles words later than"],
    about: "time from the end of each word until its text no longer changed, p95",
    explained: "Live delivery: the time from the end of each word until its text no longer changed, 95th percentile. \
                Words and speech begin and end where the label says.",
    source: "",
};
