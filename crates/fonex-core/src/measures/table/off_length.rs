//! Answers in which something is skipped, or that run on.

use super::{LENGTH, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

/// Shorter texts say too little.
const LEAST_SYLLABLES: f64 = 10.0;
/// Syllables in the sound over those of the text; both are counted within a fifth.
const SHORTEST: f64 = 0.55;
const LONGEST: f64 = 1.8;

pub(super) static MEASURE: Measure = Measure {
    id: "off_length",
    name: "answers of another length than their text",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &LENGTH,
    estimator: Estimator::Ratio {
        part: |row| yes(row[1] >= LEAST_SYLLABLES && !(SHORTEST..=LONGEST).contains(&(row[0] / row[1]))),
        whole: |row| yes(row[1] >= LEAST_SYLLABLES),
        bounds: (0.0, 1.0),
        most: 1.0,
    },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["leaves out or adds speech less often than", "leaves out or adds speech more often than"],
    about: "answers with under 0.55 or over 1.8 of the syllables of their text, over all of texts with ten and more",
    explained: "The share of the answers in which fewer than 0.55 or more than 1.8 of the syllables of the text are counted: something was skipped, or the sound runs on after the text. Texts of fewer than ten syllables are left out. Numbers and abbreviations are counted as written, so that texts full of them may be called wrongly.",
    source: "",
};
