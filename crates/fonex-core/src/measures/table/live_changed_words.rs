//! Words shown live and then changed or taken back, over words shown.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_changed_words",
    name: "live words changed",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &CHANGED,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["changes fewer shown words than", "changes more shown words than"],
    about: "words shown live that were later changed or removed, over words shown",
    explained: "Live delivery: the share of the words shown that were later changed or removed.",
    source: "",
};

/// Words changed and words shown.
static CHANGED: Fact = Fact {
    id: "live_changed",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live().filter(|(live, _)| live.shown_words > 0) {
            row.extend([live.changed_words as f64, live.shown_words as f64]);
        }
    },
};
