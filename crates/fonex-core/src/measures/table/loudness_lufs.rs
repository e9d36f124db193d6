//! Integrated loudness.

use super::LOUDNESS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "loudness_lufs",
    name: "loudness, median",
    unit: Unit::Lufs,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &LOUDNESS,
    estimator: Estimator::Median(|row| row[0], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["is quieter than", "is louder than"],
    about: "integrated loudness of the sound spoken",
    explained: "The gated loudness of each answer, median over trials. None for less than 0.4 s of sound.",
    source: "ITU-R BS.1770-4",
};
