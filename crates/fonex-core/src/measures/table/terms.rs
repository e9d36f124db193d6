//! Must-hear terms.

use super::{counts, share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static ALL: &[Measure] = &[
    Measure {
        id: "term_recall",
        name: "term recall",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &TERMS,
        estimator: Estimator::Ratio {
            part: |row| row[0],
            whole: |row| row[0] + row[1],
            bounds: (0.0, 1.0),
            most: 1.0,
        },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["misses more must-hear terms than", "misses fewer must-hear terms than"],
        about: "must-hear terms found, over those said",
        explained: "The share of the must-hear terms in the labels that were heard in the same clip, in any of \
                    their readings.",
        source: "",
    },
    Measure {
        id: "term_precision",
        name: "term precision",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &TERMS,
        estimator: Estimator::Ratio {
            part: |row| row[0],
            whole: |row| row[0] + row[2],
            bounds: (0.0, 1.0),
            most: 1.0,
        },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["invents more must-hear terms than", "invents fewer must-hear terms than"],
        about: "must-hear terms found, over those heard",
        explained: "The share of the must-hear terms heard that were said in the same clip. A term counts as \
                    invented wherever it is heard, also in clips that do not list it.",
        source: "",
    },
    Measure {
        id: "term_f1",
        name: "term F1",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &TERMS,
        estimator: Estimator::Ratio {
            part: |row| 2.0 * row[0],
            whole: |row| 2.0 * row[0] + row[1] + row[2],
            bounds: (0.0, 1.0),
            most: 1.0,
        },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["hears must-hear terms worse than", "hears must-hear terms better than"],
        about: "harmonic mean of term recall and precision",
        explained: "The harmonic mean of term recall and term precision, 2F / (2F + M + I) with F found, M missed \
                    and I invented.",
        source: "van Rijsbergen 1979",
    },
    Measure {
        id: "clips_with_all_terms",
        name: "clips with every term",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &ALL_TERMS,
        estimator: share_of(|row| row[0]),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["has fewer clips with every term than", "has more clips with every term than"],
        about: "clips in which every term they list was heard, over clips that list some",
        explained: "The share of the clips that list must-hear terms in which every one of them was heard.",
        source: "",
    },
];

/// Whether every term that the clip lists was heard.
static ALL_TERMS: Fact = Fact {
    id: "all_terms",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.hearing.and_then(|hearing| hearing.all_terms).map(yes)),
};

/// Must-hear terms found, missed and invented.
static TERMS: Fact = Fact {
    id: "terms",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| counts(trial.hearing.and_then(|hearing| hearing.terms), row),
};
