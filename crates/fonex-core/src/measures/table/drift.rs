//! How much later words are put for each minute of a recording.

use super::WORD_STARTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "drift",
    name: "drift",
    unit: Unit::MsPerMinute,
    better: Better::Neither,
    tasks: &[Task::Hear],
    fact: &WORD_STARTS,
    estimator: Estimator::Slope,
    asked: false,
    matters: Matters::Amount(1.0),
    rare: false,
    says: ["drifts earlier than", "drifts later than"],
    about: "how much later words are placed per minute of recording",
    explained: "The slope of the word starts, heard minus labelled, along a recording: the median slope between its \
                words, averaged over recordings by the spread of their times. Zero is right.",
    source: "Theil 1950; Sen 1968; Müller 2007",
};
