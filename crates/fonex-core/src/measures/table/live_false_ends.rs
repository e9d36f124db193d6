//! Ends of speech reported while words followed, for each clip.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "live_false_ends",
    name: "live false ends of speech",
    unit: Unit::PerClip,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FALSE_ENDS,
    estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 1.0), most: f64::INFINITY },
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["ends speech too early less often than", "ends speech too early more often than"],
    about: "ends of speech reported while words followed, per clip",
    explained: "Live delivery: how many ends of speech an engine reports in a clip although words follow. Left out \
                where it reports no end at all.",
    source: "",
};

/// Ends of speech that were none.
static FALSE_ENDS: Fact = Fact {
    id: "live_false_ends",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let telling = trial.live().filter(|(_, log)| log.tells_ends());
        row.extend(telling.map(|(live, _)| live.false_ends as f64));
    },
};
