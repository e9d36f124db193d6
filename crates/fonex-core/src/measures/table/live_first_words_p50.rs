//! Time from the beginning of speech to the first words shown, median.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_first_words_p50",
    name: "live first words, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FIRST_WORDS,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["shows first words sooner than", "shows first words later than"],
    about: "time from the beginning of speech to the first words shown, median",
    explained: "Live delivery: the time from the beginning of speech to the first words shown, median. Words and \
                speech begin and end where the label says.",
    source: "",
};

/// Milliseconds from the beginning of speech to the first words shown.
pub(super) static FIRST_WORDS: Fact = Fact {
    id: "live_first_words",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.first_words_ms);
        }
    },
};
