//! Words of the text for each minute of sound, silence at both ends left out.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "pace",
    name: "pace, median",
    unit: Unit::WordsPerMinute,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &PACE,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["speaks slower than", "speaks faster than"],
    about: "words of the text per minute of sound, without silence at the ends",
    explained: "The words of the text over the length of the sound without the silence at its ends, median over \
                trials.",
    source: "",
};

/// Words a minute.
static PACE: Fact = Fact {
    id: "pace",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(spoken) = trial.spoken {
            let speaking_s = spoken.duration_s - spoken.silence.leading_s - spoken.silence.trailing_s;
            row.extend((speaking_s > 0.0).then(|| trial.words_to_speak() as f64 * 60.0 / speaking_s));
        }
    },
};
