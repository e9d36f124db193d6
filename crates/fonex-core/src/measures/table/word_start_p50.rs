//! Start of each word heard right, heard minus labelled.

use super::WORD_STARTS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "word_start_p50",
    name: "word start, median",
    unit: Unit::Ms,
    better: Better::Neither,
    tasks: &[Task::Hear],
    fact: &WORD_STARTS,
    estimator: Estimator::Quantile(0.5, |row| row[1]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["puts words earlier than", "puts words later than"],
    about: "start of each word heard right, heard minus labelled",
    explained: "The median difference between the start an engine gives a word and the labelled one, over the words \
                heard right. Positive is late.",
    source: "",
};
