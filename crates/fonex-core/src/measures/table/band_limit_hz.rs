//! Where the spectrum ends.

use super::SPECTRUM;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "band_limit_hz",
    name: "band limit, median",
    unit: Unit::Hz,
    better: Better::Higher,
    tasks: &[Task::Speak],
    fact: &SPECTRUM,
    estimator: Estimator::Median(|row| row[1], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["has a lower band limit than", "has a higher band limit than"],
    about: "upper limit of the long-term spectrum",
    explained: "The frequency above which the long-term average spectrum lies 75 dB below its strongest part, median \
                over trials. A value far below half the sample rate shows audio that was upsampled from a lower rate.",
    source: "",
};
