//! Confidence of heard words against the share that was right, over ten bins.

use super::CONFIDENCE;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "calibration_error",
    name: "calibration error",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &CONFIDENCE,
    estimator: Estimator::Gaps,
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["has better calibrated confidences than", "has worse calibrated confidences than"],
    about: "confidence of heard words against the share that was right, over ten bins",
    explained: "Expected calibration error: the mean gap between confidence and share right over ten bins of equal \
                width, weighted by words. The gap that chance alone makes on so few words is taken off bin by bin, \
                so that a calibrated engine has about 0.",
    source: "Naeini, Cooper and Hauskrecht 2015; Leone, Nelson and Nottingham 1961",
};
