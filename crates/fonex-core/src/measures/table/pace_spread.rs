//! How steady the pace is from take to take.

use super::SYLLABLES;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pace_spread",
    name: "pace over repeats",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &SYLLABLES,
    estimator: Estimator::Spread(|row| row[1].max(1e-3).ln()),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["keeps its pace from take to take better than", "keeps its pace from take to take worse than"],
    about: "standard deviation of the speaking time over the repeats of a text, as a share of it",
    explained: "How much the time spent speaking varies when the same text is spoken again: the standard deviation of its logarithm within texts, which is a share of it. Needs repeats.",
    source: "Fisher, Statistical Methods for Research Workers, 1925",
};
