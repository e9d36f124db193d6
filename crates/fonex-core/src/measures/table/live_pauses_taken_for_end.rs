//! Labelled pauses taken for the end of speech, over all labelled pauses.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_pauses_taken_for_end",
    name: "live pauses taken for the end",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &PAUSES,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["mistakes fewer pauses for the end than", "mistakes more pauses for the end than"],
    about: "labelled pauses reported as the end of speech, over all labelled pauses",
    explained: "Live delivery: the share of the labelled pauses between words in which the engine reported an end of \
                speech. Left out where it reports no end at all.",
    source: "",
};

/// Pauses taken for the end, and pauses.
static PAUSES: Fact = Fact {
    id: "live_pauses",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live().filter(|(live, log)| log.tells_ends() && !live.pauses.is_empty()) {
            row.extend([live.pauses.iter().filter(|(_, taken)| *taken).count() as f64, live.pauses.len() as f64]);
        }
    },
};
