//! How steady the pitch is from take to take.

use super::PITCH;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pitch_spread_st",
    name: "pitch over repeats",
    unit: Unit::Semitones,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &PITCH,
    estimator: Estimator::Spread(|row| 12.0 * row[0].max(1.0).log2()),
    asked: false,
    matters: Matters::Amount(0.25),
    rare: false,
    says: ["keeps its pitch from take to take better than", "keeps its pitch from take to take worse than"],
    about: "standard deviation of the median pitch over the repeats of a text",
    explained: "How much the median pitch varies when the same text is spoken again, in semitones: the standard deviation within texts. Needs repeats.",
    source: "Fisher, Statistical Methods for Research Workers, 1925",
};
