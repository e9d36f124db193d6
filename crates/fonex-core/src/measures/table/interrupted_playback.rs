//! Answers that would be interrupted when played as they came.

use super::{PLAYBACK, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "interrupted_playback",
    name: "interrupted playback",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &PLAYBACK,
    estimator: Estimator::Ratio { part: |row| yes(row[0] > 0.0), whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["would stutter less often than", "would stutter more often than"],
    about: "answers whose playback would be interrupted, played as they arrived",
    explained: "The share of the answers that came in pieces which would have been interrupted, had they been played \
                from their first piece on.",
    source: "",
};
