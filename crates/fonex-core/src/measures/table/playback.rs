//! How an answer that comes in pieces would play.

use super::{playback, share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static ALL: &[Measure] = &[
    Measure {
        id: "interrupted_playback",
        name: "interrupted playback",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &PLAYBACK,
        estimator: share_of(|row| yes(row[0] > 0.0)),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["would stutter less often than", "would stutter more often than"],
        about: "answers whose playback would be interrupted, played as they arrived",
        explained: "The share of the answers that came in pieces which would have been interrupted, had they been \
                    played from their first piece on.",
        source: "",
    },
    Measure {
        id: "playback_wait_p95",
        name: "wait for smooth playback, p95",
        unit: Unit::Ms,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &PLAYBACK,
        estimator: Estimator::Quantile(0.95, |row| row[1]),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["needs a shorter wait for smooth playback than", "needs a longer wait for smooth playback than"],
        about: "how long a player must buffer so that playback is not interrupted",
        explained: "How long a player would have to wait after the first piece, so that 19 of 20 answers play \
                    without an interruption.",
        source: "",
    },
];

/// Interruptions of an answer that came in pieces, and the wait in milliseconds that would have avoided them.
static PLAYBACK: Fact = Fact {
    id: "playback",
    version: 0,
    width: 2,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(played) = playback(trial) {
            row.extend([played.stalls.len() as f64, played.needed_wait_ms]);
        }
    },
};
