//! Whether a voice does what the markup of a text asks.

use super::MARKUP;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "markup_followed",
    name: "markup followed",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Speak],
    fact: &MARKUP,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["follows markup less often than", "follows markup more often than"],
    about: "requests of the markup that are done in the sound, over those that can be checked in it",
    explained: "The share of what the markup of the texts asks for that is found in the sound: breaks of 0.3 s and more; and, against the same text without markup by the same voice in the same run, a text marked as a whole that is faster or slower, higher or lower, louder or softer by at least 30 % of what is asked.",
    source: "Speech Synthesis Markup Language 1.1, W3C 2010",
};
