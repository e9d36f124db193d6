//! Wall time of the answered calls, p95.

use super::TOOK;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "latency_p95",
    name: "latency, p95",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &TOOK,
    estimator: Estimator::Quantile(0.95, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["answers sooner than", "answers later than"],
    about: "wall time of the answered calls, p95",
    explained: "The wall time of a call, from handing over the input to the whole answer, at the 95th percentile of \
                the answered trials. Warm-up trials do not count. Live, it includes the time the audio plays.",
    source: "Hyndman and Fan 1996; Woodruff 1952",
};
