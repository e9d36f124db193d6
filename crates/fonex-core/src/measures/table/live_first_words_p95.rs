//! Time from the beginning of speech to the first words shown, p95.

use super::live_first_words_p50::FIRST_WORDS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_first_words_p95",
    name: "live first words, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FIRST_WORDS,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["shows first words sooner than", "shows first words later than"],
    about: "time from the beginning of speech to the first words shown, p95",
    explained: "Live delivery: the time from the beginning of speech to the first words shown, 95th percentile. \
                Words and speech begin and end where the label says.",
    source: "",
};
