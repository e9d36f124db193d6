//! How the long-term spectrum falls.

use super::SPECTRUM;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "spectral_tilt",
    name: "spectral tilt, median",
    unit: Unit::DbPerOctave,
    better: Better::Neither,
    tasks: &[Task::Speak],
    fact: &SPECTRUM,
    estimator: Estimator::Median(|row| row[0], Pairs::Differences),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["sounds duller than", "sounds brighter than"],
    about: "slope of the long-term spectrum from 250 Hz to 4 kHz",
    explained: "The slope of the long-term average spectrum over the third octaves from 250 Hz to 4 kHz in decibels an octave, median over trials.",
    source: "Löfqvist and Mandersson, Long-time average spectrum of speech and voice analysis, 1987",
};
