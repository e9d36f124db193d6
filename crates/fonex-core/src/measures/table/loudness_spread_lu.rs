//! How evenly loud a voice is from clip to clip.

use super::LOUDNESS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "loudness_spread_lu",
    name: "loudness over clips",
    unit: Unit::Db,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &LOUDNESS,
    estimator: Estimator::Scatter(|row| row[0]),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["is more evenly loud than", "is less evenly loud than"],
    about: "standard deviation of the loudness from clip to clip",
    explained: "The standard deviation of the integrated loudness over the clips of a voice, in LU. Above two listeners reach for the volume.",
    source: "ITU-R BS.1770-4",
};
