//! How long a player must wait before it begins, so that nothing interrupts it.

use super::PLAYBACK;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "playback_wait_p95",
    name: "wait for smooth playback, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &PLAYBACK,
    estimator: Estimator::Quantile(0.95, |row| row[1]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["needs a shorter wait for smooth playback than", "needs a longer wait for smooth playback than"],
    about: "how long a player must buffer so that playback is not interrupted",
    explained: "How long a player would have to wait after the first piece, so that 19 of 20 answers play without an \
                interruption.",
    source: "",
};
