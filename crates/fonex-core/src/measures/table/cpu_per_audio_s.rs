//! Processor seconds of the engine for each second of audio.

use super::per_audio_second;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "cpu_per_audio_s",
    name: "CPU per second of audio, median",
    unit: Unit::Ratio,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak],
    fact: &CPU,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["uses less processor time than", "uses more processor time than"],
    about: "processor seconds of the engine for each second of audio",
    explained: "Processor time of the engine's process over the length of the audio, median over trials, where the \
                engine is a program that Fonex started.",
    source: "",
};

/// Processor seconds for each second of audio.
static CPU: Fact = Fact {
    id: "cpu",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(per_audio_second(trial, trial.cpu_s)),
};
