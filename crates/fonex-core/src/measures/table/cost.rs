//! What answers cost.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static ALL: &[Measure] = &[
    Measure {
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
        explained: "The cost of the answered trials over the minutes of audio heard or spoken. Tiers and free \
                    allowances are shared out over the trials of a run.",
        source: "",
    },
    Measure {
        id: "cost_per_correct_word",
        name: "cost of a correct word",
        unit: Unit::Money,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &COST_OF_WORDS,
        estimator: Estimator::Ratio {
            part: |row| row[0],
            whole: |row| row[1],
            bounds: (0.0, f64::INFINITY),
            most: f64::INFINITY,
        },
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["costs less for a correct word than", "costs more for a correct word than"],
        about: "what the trials cost by the prices of the bench file, over the words heard right",
        explained: "The cost of the answered trials over the words heard right: a cheap engine that is often \
                    wrong can cost more per correct word.",
        source: "",
    },
];

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

/// Cost and words heard right.
static COST_OF_WORDS: Fact = Fact {
    id: "cost_of_words",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let (Some(cost), Some(hearing)) = (trial.cost, trial.hearing) {
            row.extend([cost, hearing.words.correct as f64]);
        }
    },
};
