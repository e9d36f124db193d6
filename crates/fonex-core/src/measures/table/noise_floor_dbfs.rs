//! How noisy the silences of an answer are.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "noise_floor_dbfs",
    name: "noise floor, median",
    unit: Unit::Dbfs,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &NOISE_FLOOR,
    estimator: Estimator::Median(|row| row[0], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["is quieter in its silences than", "is noisier in its silences than"],
    about: "level of the quietest tenth of frames; answers that are digitally silent there are left out",
    explained: "The level of the quietest tenth of the frames of an answer, median over trials. Answers whose quietest tenth is digital silence have none.",
    source: "",
};

/// Below the last bit of 16: nothing is there to be noisy.
const SILENCE_DBFS: f64 = -100.0;

/// Level of the quietest tenth of frames.
static NOISE_FLOOR: Fact = Fact {
    id: "noise_floor",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        row.extend(trial.spoken.and_then(|spoken| spoken.noise_floor_dbfs).filter(|level| *level > SILENCE_DBFS));
    },
};
