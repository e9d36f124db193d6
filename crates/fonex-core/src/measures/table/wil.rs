//! Words heard right, against words said and words heard.

use super::WORDS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "wil",
    name: "WIL",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORDS,
    estimator: Estimator::Smooth(lost),
    asked: false,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["loses less word information than", "loses more word information than"],
    about: "words heard right, against words said and words heard",
    explained: "Word information lost: 1 - C/N x C/P, with C words right, N words said and P words heard. Invented \
                and missed words weigh the same.",
    source: "Morris, Maier and Green 2004",
};

/// 1 - C/N x C/P of correct, substituted, deleted and inserted words.
fn lost(sums: &[f64]) -> Option<f64> {
    let (said, heard) = (sums[0] + sums[1] + sums[2], sums[0] + sums[1] + sums[3]);
    (said > 0.0).then(|| if sums[0] > 0.0 { 1.0 - (sums[0] / said) * (sums[0] / heard) } else { 1.0 })
}
