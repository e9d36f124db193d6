//! Replies in text.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

pub(super) static ALL: &[Measure] = &[Measure {
    id: "reply_words",
    name: "reply words, median",
    unit: Unit::Words,
    better: Better::Neither,
    tasks: &[Task::Reply],
    fact: &REPLY_WORDS,
    estimator: Estimator::Quantile(0.5, |row| row[0]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["replies in fewer words than", "replies in more words than"],
    about: "words of the replies",
    explained: "The number of words in a reply, median over trials.",
    source: "",
}];

/// Words of a reply.
static REPLY_WORDS: Fact = Fact {
    id: "reply_words",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.replied.map(|reply| reply.split_whitespace().count() as f64)),
};
