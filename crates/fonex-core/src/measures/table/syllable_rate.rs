//! Syllables a second of speaking.

use super::SYLLABLES;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "syllable_rate",
    name: "syllables a second",
    unit: Unit::PerSecond,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &SYLLABLES,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 20.0), most: 20.0 },
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["speaks slower than", "speaks faster than"],
    about: "syllables counted in the sound over the time of speaking, pauses left out",
    explained: "Syllables, which are voiced peaks of the level with a dip of 2.5 dB before them, over the seconds between the silences at both ends, pauses of a quarter of a second and more left out; over all trials together.",
    source: "de Jong and Wempe, Behavior Research Methods 41(2), 2009",
};
