//! Where words begin.

use super::{share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

const WORD_START: Measure = Measure {
    id: "word_start_p50",
    name: "word start, median",
    unit: Unit::Ms,
    better: Better::Neither,
    tasks: &[Task::Hear],
    fact: &WORD_STARTS,
    estimator: Estimator::Quantile(0.5, |row| row[1]),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["puts words earlier than", "puts words later than"],
    about: "start of each word heard right, heard minus labelled",
    explained: "The median difference between the start an engine gives a word and the labelled one, over the \
                words heard right. Positive is late.",
    source: "",
};

const WITHIN: Measure = Measure {
    id: "words_within_50ms",
    name: "starts within 50 ms",
    unit: Unit::Share,
    better: Better::Higher,
    tasks: &[Task::Hear],
    fact: &WORD_STARTS,
    estimator: share_of(|row| yes(row[1].abs() <= 50.0 + 1e-6)),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: false,
    says: ["has fewer words within 50 ms than", "has more words within 50 ms than"],
    about: "words heard right that start within 50 ms of their label",
    explained: "The share of the words heard right whose start lies within 50 ms of the labelled one.",
    source: "",
};

pub(super) static ALL: &[Measure] = &[
    WORD_START,
    Measure {
        id: "word_start_p95",
        name: "|word start|, p95",
        better: Better::Lower,
        estimator: Estimator::Quantile(0.95, |row| row[1].abs()),
        says: ["places words closer than", "places words further off than"],
        about: "absolute difference of the word starts, 95th percentile",
        explained: "One word in twenty that was heard right starts further from its label than this.",
        ..WORD_START
    },
    WITHIN,
    Measure {
        id: "words_within_100ms",
        name: "starts within 100 ms",
        estimator: share_of(|row| yes(row[1].abs() <= 100.0 + 1e-6)),
        says: ["has fewer words within 100 ms than", "has more words within 100 ms than"],
        about: "words heard right that start within 100 ms of their label",
        explained: "The share of the words heard right whose start lies within 100 ms of the labelled one.",
        ..WITHIN
    },
    Measure {
        id: "drift",
        name: "drift",
        unit: Unit::MsPerMinute,
        better: Better::Neither,
        tasks: &[Task::Hear],
        fact: &WORD_STARTS,
        estimator: Estimator::Slope,
        asked: false,
        matters: Matters::Amount(1.0),
        rare: false,
        says: ["drifts earlier than", "drifts later than"],
        about: "how much later words are placed per minute of recording",
        explained: "The slope of the word starts, heard minus labelled, along a recording: the median slope \
                    between its words, averaged over recordings by the spread of their times. Zero is right.",
        source: "Theil 1950; Sen 1968; Müller 2007",
    },
];

/// For each word heard right, where its label puts it in seconds, and how much later the engine does in milliseconds.
static WORD_STARTS: Fact = Fact {
    id: "word_starts",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let offsets = trial.hearing.and_then(|hearing| hearing.offsets.as_ref());
        row.extend(offsets.iter().flat_map(|offsets| &offsets.words).flat_map(|word| [word.at_s, word.start_ms]));
    },
};
