//! What the trials cost by the prices of the bench file, over the minutes of audio.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "cost_per_audio_minute",
    name: "cost of a minute of audio",
    unit: Unit::Money,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak],
    fact: &COST_OF_AUDIO,
    estimator: Estimator::Ratio {
        part: |row| row[0],
        whole: |row| row[1],
        bounds: (0.0, f64::INFINITY),
        most: f64::INFINITY,
    },
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["costs less for a minute of audio than", "costs more for a minute of audio than"],
    about: "what the trials cost by the prices of the bench file, over the minutes of audio",
    explained: "The cost of the answered trials over the minutes of audio heard or spoken. Tiers and free allowances \
                are shared out over the trials of a run.",
    source: "",
};

/// Cost and minutes of audio.
static COST_OF_AUDIO: Fact = Fact {
    id: "cost_of_audio",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let (Some(cost), Some(audio_s)) = (trial.cost, trial.audio_s) {
            row.extend([cost, audio_s / 60.0]);
        }
    },
};
