//! Median pitch of the voice.

use super::PITCH;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pitch_hz",
    name: "pitch, median",
    unit: Unit::Hz,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PITCH,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["speaks lower than", "speaks higher than"],
    about: "median pitch of the voiced frames of an answer",
    explained: "The median of the fundamental frequency over the voiced frames of an answer, median over trials. Creaky voice may count as unvoiced or an octave lower.",
    source: "Talkin, A robust algorithm for pitch tracking, 1995",
};
