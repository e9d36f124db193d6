//! The chance that a right word has a higher confidence than a wrong one.

use super::CONFIDENCE;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "roc_area",
    name: "ROC area",
    unit: Unit::Ratio,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &CONFIDENCE,
    estimator: Estimator::Area,
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["tells right words from wrong ones worse than", "tells right words from wrong ones better than"],
    about: "probability that a correct word has a higher confidence than a wrong one",
    explained: "Area under the receiver operating characteristic of the confidences: 0.5 is no better than chance, 1 \
                separates them completely. Ties count half.",
    source: "Obuchowski 1997",
};
