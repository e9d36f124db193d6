//! Wall time of the answered calls, median over trials.

use super::TOOK;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "latency_p50",
    name: "latency, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &TOOK,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: true,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["answers sooner than", "answers later than"],
    about: "wall time of the answered calls, median over trials",
    explained: "The wall time of a call, from handing over the input to the whole answer, at the median of the \
                answered trials. Warm-up trials do not count. Live, it includes the time the audio plays. Two \
                variants are compared by the ratios clip by clip, and their geometric means are shown.",
    source: "Hyndman and Fan 1996; Woodruff 1952",
};
