//! Live delivery: when words come and when they stay.

use super::{rate, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

const FIRST_WORDS_TIME: Measure = Measure {
    id: "live_first_words_p50",
    name: "live first words, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &FIRST_WORDS,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["shows first words sooner than", "shows first words later than"],
    about: "time from the beginning of speech to the first words shown, median",
    explained: "Live delivery: the time from the beginning of speech to the first words shown, median. Words and \
                speech begin and end where the label says.",
    source: "",
};

const SHOWN_TIME: Measure = Measure {
    id: "live_shown_p50",
    name: "live words shown, median",
    fact: &SHOWN,
    says: ["shows words sooner than", "shows words later than"],
    about: "time from the end of each word to when it was first shown, median",
    explained: "Live delivery: the time from the end of each word to when it was first shown, median. Words and \
                speech begin and end where the label says.",
    ..FIRST_WORDS_TIME
};

const SETTLED_TIME: Measure = Measure {
    id: "live_settled_p50",
    name: "live words settled, median",
    fact: &SETTLED,
    asked: true,
    says: ["settles words sooner than", "settles words later than"],
    about: "time from the end of each word until its text no longer changed, median",
    explained: "Live delivery: the time from the end of each word until its text no longer changed, median. Words \
                and speech begin and end where the label says.",
    ..FIRST_WORDS_TIME
};

const FINAL_TIME: Measure = Measure {
    id: "live_final_p50",
    name: "live final result, median",
    fact: &FINAL_AFTER,
    says: ["ends sooner after speech than", "ends later after speech than"],
    about: "time from the end of speech to the last final result, median",
    explained: "Live delivery: the time from the end of speech to the last final result, median. Words and speech \
                begin and end where the label says.",
    ..FIRST_WORDS_TIME
};

pub(super) static ALL: &[Measure] = &[
    FIRST_WORDS_TIME,
    Measure {
        id: "live_first_words_p95",
        name: "live first words, p95",
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        about: "time from the beginning of speech to the first words shown, p95",
        explained: "Live delivery: the time from the beginning of speech to the first words shown, 95th \
                    percentile. Words and speech begin and end where the label says.",
        ..FIRST_WORDS_TIME
    },
    SHOWN_TIME,
    Measure {
        id: "live_shown_p95",
        name: "live words shown, p95",
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        about: "time from the end of each word to when it was first shown, p95",
        explained: "Live delivery: the time from the end of each word to when it was first shown, 95th \
                    percentile. Words and speech begin and end where the label says.",
        ..SHOWN_TIME
    },
    SETTLED_TIME,
    Measure {
        id: "live_settled_p95",
        name: "live words settled, p95",
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        asked: false,
        about: "time from the end of each word until its text no longer changed, p95",
        explained: "Live delivery: the time from the end of each word until its text no longer changed, 95th \
                    percentile. Words and speech begin and end where the label says.",
        ..SETTLED_TIME
    },
    FINAL_TIME,
    Measure {
        id: "live_final_p95",
        name: "live final result, p95",
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        about: "time from the end of speech to the last final result, p95",
        explained: "Live delivery: the time from the end of speech to the last final result, 95th percentile. \
                    Words and speech begin and end where the label says.",
        ..FINAL_TIME
    },
    Measure {
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
    },
    Measure {
        id: "live_false_ends",
        name: "live false ends of speech",
        unit: Unit::PerClip,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &FALSE_ENDS,
        estimator: rate(|row| row[0], |_| 1.0),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["ends speech too early less often than", "ends speech too early more often than"],
        about: "ends of speech reported while words followed, per clip",
        explained: "Live delivery: how many ends of speech an engine reports in a clip although words follow. \
                    Left out where it reports no end at all.",
        source: "",
    },
    Measure {
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
        explained: "Live delivery: the share of the clips with labelled words for which the engine reported no \
                    end of speech. Left out where it reports no end at all.",
        source: "",
    },
    Measure {
        id: "live_pauses_taken_for_end",
        name: "live pauses taken for the end",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &LIVE_PAUSES,
        estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["mistakes fewer pauses for the end than", "mistakes more pauses for the end than"],
        about: "labelled pauses reported as the end of speech, over all labelled pauses",
        explained: "Live delivery: the share of the labelled pauses between words in which the engine reported an \
                    end of speech. Left out where it reports no end at all.",
        source: "",
    },
];

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

/// Milliseconds from the end of speech to the last final result.
static FINAL_AFTER: Fact = Fact {
    id: "live_final",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.final_after_ms);
        }
    },
};

/// Milliseconds from the beginning of speech to the first words shown.
static FIRST_WORDS: Fact = Fact {
    id: "live_first_words",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.first_words_ms);
        }
    },
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

/// Pauses taken for the end, and pauses.
static LIVE_PAUSES: Fact = Fact {
    id: "live_pauses",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live().filter(|(live, log)| log.tells_ends() && !live.pauses.is_empty()) {
            row.extend([live.pauses.iter().filter(|(_, taken)| *taken).count() as f64, live.pauses.len() as f64]);
        }
    },
};

/// Milliseconds from the end of each word to when it last changed.
static SETTLED: Fact = Fact {
    id: "live_settled",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.settled_ms.iter().copied());
        }
    },
};

/// Milliseconds from the end of each word to when it was first shown.
static SHOWN: Fact = Fact {
    id: "live_shown",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some((live, _)) = trial.live() {
            row.extend(live.shown_ms.iter().copied());
        }
    },
};

fn missed(sums: &[f64]) -> Option<f64> {
    (sums[2] > 0.0).then(|| sums[1] / sums[0])
}
