//! Share of the speech that is pauses.

use super::PAUSES;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pause_share",
    name: "pauses",
    unit: Unit::Share,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PAUSES,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["pauses less than", "pauses more than"],
    about: "pauses of 0.25 s and more inside, over the time between the silences at both ends",
    explained: "Seconds of pauses of a quarter of a second and more, silence at both ends left out, over the seconds between the two ends; over all trials together.",
    source: "",
};
