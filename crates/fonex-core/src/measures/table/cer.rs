//! Characters substituted, deleted and inserted, over the characters of the labels.

use super::CHARACTERS;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "cer",
    name: "CER",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &CHARACTERS,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: f64::INFINITY },
    asked: false,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["gets fewer characters wrong than", "gets more characters wrong than"],
    about: "characters substituted, deleted and inserted, over the characters of the labels",
    explained: "Character error rate over extended grapheme clusters; single spaces between words count as \
                characters. It forgives near misses that the WER counts in full, and suits languages without spaces.",
    source: "Levenshtein 1966; UAX 29",
};
