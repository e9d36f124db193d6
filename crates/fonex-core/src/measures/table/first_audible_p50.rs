//! Time until the first sound above silence would be heard.

use super::FIRST_AUDIBLE;
use crate::Task;
use crate::measures::{Better, Estimator, Matters, Measure, Pairs, Unit};

pub(super) static MEASURE: Measure = Measure {
    id: "first_audible_p50",
    name: "first audible sound, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FIRST_AUDIBLE,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["is audible sooner than", "is audible later than"],
    about: "time until the first sound above silence would be heard",
    explained: "The median time until a listener hears something: the sound is played as it comes, and silence \
                before the first sound counts.",
    source: "",
};
