//! How far the level moves within an answer.

use super::LEVEL_MOVEMENT;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "level_movement_db",
    name: "level movement, median",
    unit: Unit::Db,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &LEVEL_MOVEMENT,
    estimator: Estimator::Median(|row| row[0], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["moves its level less than", "moves its level more than"],
    about: "standard deviation of the level while speaking, over stretches of 50 ms",
    explained: "The standard deviation of the level over stretches of a twentieth of a second that are within 30 dB of the loud ones, median over trials. A voice that stresses nothing has little of it.",
    source: "",
};
