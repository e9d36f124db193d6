//! Clips whose end of speech was not told, though ends are told in others.

use super::yes;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_missed_ends",
    name: "live missed ends of speech",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &MISSED_ENDS,
    estimator: Estimator::Smooth(missed),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["misses fewer ends of speech than", "misses more ends of speech than"],
    about: "clips whose end of speech was not reported, though others were",
    explained: "Live delivery: the share of the clips with labelled words for which the engine reported no end of \
                speech. Left out where it reports no end at all.",
    source: "",
};

/// Clips, missed ends, and clips in which an end was reported.
static MISSED_ENDS: Fact = Fact {
    id: "live_missed_ends",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, log)) = trial.live().filter(|_| !trial.clip.words.is_empty()) {
            let told = log.tells_ends();
            row.extend([1.0, yes(live.missed_end || !told), yes(told)]);
        }
    },
};

fn missed(sums: &[f64]) -> Option<f64> {
    (sums[2] > 0.0).then(|| sums[1] / sums[0])
}
