//! Words of the text for each minute of speaking, pauses left out.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pace_speaking",
    name: "pace without pauses, median",
    unit: Unit::WordsPerMinute,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &SPEAKING_PACE,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["speaks its words slower than", "speaks its words faster than"],
    about: "words of the text per minute of speaking, without pauses",
    explained: "The words of the text over the time of speaking, without pauses of a quarter of a second and more and without silence at the ends; median over trials.",
    source: "",
};

/// Words a minute of speaking.
static SPEAKING_PACE: Fact = Fact {
    id: "speaking_pace",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let speaking_s = trial.speech.map(|speech| speech.speaking_s).filter(|seconds| *seconds > 0.0);
        row.extend(speaking_s.map(|seconds| trial.words_to_speak() as f64 * 60.0 / seconds));
    },
};
