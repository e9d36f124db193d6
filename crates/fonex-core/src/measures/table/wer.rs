//! Words substituted, deleted and inserted, over the words of the labels.

use super::WORDS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "wer",
    name: "WER",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORDS,
    estimator: Estimator::Ratio {
        part: |row| row[1] + row[2] + row[3],
        whole: |row| row[0] + row[1] + row[2],
        bounds: (0.0, 1.0),
        most: f64::INFINITY,
    },
    asked: true,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["gets fewer words wrong than", "gets more words wrong than"],
    about: "words substituted, deleted and inserted, over the words of the labels",
    explained: "Word error rate: (S + D + I) / N over the whole set, after the text profile, of the alignment with \
                the fewest edits. It can exceed 100 % when many words are inserted. Never the mean of the clips' own \
                rates.",
    source: "Levenshtein 1966; interval: docs/statistics.md",
};
