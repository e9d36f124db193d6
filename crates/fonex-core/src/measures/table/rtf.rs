//! Wall time for each second of audio heard or spoken.

use super::per_audio_second;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "rtf",
    name: "RTF, median",
    unit: Unit::Ratio,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak],
    fact: &RTF,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["has a lower RTF than", "has a higher RTF than"],
    about: "wall time per second of audio heard or spoken",
    explained: "Real-time factor: the wall time of a call over the length of its audio, median over trials. Below 1 \
                an engine is faster than the audio plays.",
    source: "",
};

/// Wall time for each second of audio.
static RTF: Fact = Fact {
    id: "rtf",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(per_audio_second(trial, trial.took_ms.map(|ms| ms / 1e3))),
};
