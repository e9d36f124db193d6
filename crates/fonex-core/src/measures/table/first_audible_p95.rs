//! Time until the first sound above silence would be heard, 95th percentile.

use super::FIRST_AUDIBLE;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "first_audible_p95",
    name: "first audible sound, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FIRST_AUDIBLE,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["is audible sooner (p95) than", "is audible later (p95) than"],
    about: "time until the first sound above silence would be heard, 95th percentile",
    explained: "One answer in twenty takes longer than this until a listener hears something.",
    source: "",
};
