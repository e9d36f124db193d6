//! True peak between the samples.

use super::TRUE_PEAK;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "true_peak_dbtp",
    name: "true peak, p95",
    unit: Unit::Dbtp,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &TRUE_PEAK,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Amount(0.5),
    rare: false,
    says: ["peaks lower than", "peaks higher than"],
    about: "95th percentile of the highest level between the samples",
    explained: "The highest level of each answer between its samples, 95th percentile over trials. Above 0 dBTP \
                playback can distort.",
    source: "ITU-R BS.1770-4, annex 2",
};
