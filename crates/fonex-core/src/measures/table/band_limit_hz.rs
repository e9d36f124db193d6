//! Where the spectrum ends.

use super::SPECTRUM;
use crate::Task;
use crate::measures::{Better, Estimator, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "band_limit_hz",
    name: "band limit, median",
    unit: Unit::Hz,
    better: Better::Higher,
    tasks: &[Task::Speak],
    fact: &SPECTRUM,
    estimator: Estimator::Quantile(0.5, |row| row[1]),
    asked: false,
    rare: false,
    says: ["has a lower band limit than", "has a higher band limit than"],
    about: "upper limit of the long-term spectrum",
    explained: "The frequency above which the long-term average spectrum lies 75 dB below its strongest part, median \
                over trials. A value far below half the sample rate shows audio that was upsampled from a lower rate.",
    source: "",
};
