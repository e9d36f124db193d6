//! How trials end.

use super::{share_of, yes};
use crate::measures::{Better, Fact, Matters, Measure, Trials, Unit};
use crate::{Outcome, Task};

const ENDED: Measure = Measure {
    id: "outcome_unclear",
    name: "trials unclear",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &OUTCOME,
    estimator: share_of(|row| yes(is(row, Outcome::Unclear))),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["fails to understand less often than", "fails to understand more often than"],
    about: "trials that ended as unclear, over all timed trials",
    explained: "The share of the timed trials that ended as \"unclear\": the engine could not understand.",
    source: "",
};

pub(super) static ALL: &[Measure] = &[
    Measure {
        id: "unanswered",
        name: "trials without an answer",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear, Task::Speak, Task::Reply],
        fact: &UNANSWERED,
        estimator: share_of(|row| row[0]),
        asked: true,
        matters: Matters::Amount(0.01),
        rare: true,
        says: ["fails less often than", "fails more often than"],
        about: "trials that ended without an answer, over all timed trials",
        explained: "The share of the timed trials that ended in any other way than done or nothing.",
        source: "",
    },
    Measure {
        id: "outcome_nothing",
        name: "trials nothing",
        better: Better::Neither,
        estimator: share_of(|row| yes(is(row, Outcome::Nothing))),
        says: ["hears nothing less often than", "hears nothing more often than"],
        about: "trials that ended as nothing, over all timed trials",
        explained: "The share of the timed trials that ended as \"nothing\": the engine answered that there were \
                    no words.",
        ..ENDED
    },
    ENDED,
    Measure {
        id: "outcome_refused",
        name: "trials refused",
        estimator: share_of(|row| yes(is(row, Outcome::Refused))),
        says: ["declines less often than", "declines more often than"],
        about: "trials that ended as refused, over all timed trials",
        explained: "The share of the timed trials that ended as \"refused\": the engine declined: quota, \
                    unsupported input, too long.",
        ..ENDED
    },
    Measure {
        id: "outcome_unreachable",
        name: "trials unreachable",
        estimator: share_of(|row| yes(is(row, Outcome::Unreachable))),
        says: ["is unreachable less often than", "is unreachable more often than"],
        about: "trials that ended as unreachable, over all timed trials",
        explained: "The share of the timed trials that ended as \"unreachable\": the engine could not be started \
                    or reached.",
        ..ENDED
    },
    Measure {
        id: "outcome_late",
        name: "trials late",
        estimator: share_of(|row| yes(is(row, Outcome::Late))),
        says: ["times out less often than", "times out more often than"],
        about: "trials that ended as late, over all timed trials",
        explained: "The share of the timed trials that ended as \"late\": the time limit passed.",
        ..ENDED
    },
    Measure {
        id: "outcome_broken",
        name: "trials broken",
        estimator: share_of(|row| yes(is(row, Outcome::Broken))),
        says: ["returns broken answers less often than", "returns broken answers more often than"],
        about: "trials that ended as broken, over all timed trials",
        explained: "The share of the timed trials that ended as \"broken\": the reply was malformed or the engine \
                    crashed.",
        ..ENDED
    },
];

/// How a trial ended, by its place among the outcomes; nothing where no trial was made, as for results read from a file.
static OUTCOME: Fact = Fact {
    id: "outcome",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::All,
    observe: |trial, row| {
        let place = || Outcome::ALL.iter().position(|outcome| *outcome == trial.outcome);
        row.extend(trial.traffic.and_then(|_| place()).map(|at| at as f64));
    },
};

/// Whether a trial has no answer; of results read from a file, whether a clip has no result.
static UNANSWERED: Fact = Fact {
    id: "unanswered",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::All,
    observe: |trial, row| row.push(yes(!trial.outcome.is_answer())),
};

/// Whether a row of [`OUTCOME`] is this one.
fn is(row: &[f64], outcome: Outcome) -> bool {
    Outcome::ALL.get(row[0] as usize) == Some(&outcome)
}
