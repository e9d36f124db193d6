//! What else can be wrong with the words heard, and how sure the engine was of them.

use super::{counts, share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};

const STRETCH: Measure = Measure {
    id: "skipped_clips",
    name: "clips with a skipped stretch",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &GAPS,
    estimator: share_of(|row| yes(row[0] >= LEAST_WORDS)),
    asked: false,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["skips stretches less often than", "skips stretches more often than"],
    about: "clips in which four words in a row or more were not heard, over all clips",
    explained: "The share of clips in which four words in a row or more are missing from what was heard: a \
                recogniser that drops a stretch, or a voice that skips one.",
    source: "",
};

pub(super) static ALL: &[Measure] = &[
    Measure {
        id: "words_over_silence",
        name: "words over silence",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &OVER_SILENCE,
        estimator: share_of(|row| yes(row[0] > 0.0)),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["invents words in fewer silent clips than", "invents words in more silent clips than"],
        about: "clips in which nobody speaks and words were heard, over clips in which nobody speaks",
        explained: "The share of the clips with an empty label for which the engine returned words.",
        source: "",
    },
    Measure {
        id: "first_word_wrong",
        name: "first word wrong",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &FIRST_WORD,
        estimator: share_of(|row| row[0]),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["gets the first word wrong in fewer clips than", "gets the first word wrong in more clips than"],
        about: "clips whose first word was not heard right, over clips in which somebody speaks",
        explained: "The share of clips whose first labelled word was dropped or taken for another. Words invented \
                    before it do not count. Far above the rate of other words it points to speech that is cut off \
                    at the start.",
        source: "",
    },
    Measure {
        id: "last_word_wrong",
        name: "last word wrong",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &LAST_WORD,
        estimator: share_of(|row| row[0]),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["gets the last word wrong in fewer clips than", "gets the last word wrong in more clips than"],
        about: "clips whose last word was not heard right, over clips in which somebody speaks",
        explained: "The share of clips whose last labelled word was dropped or taken for another. Words invented \
                    behind it do not count. Far above the rate of other words it points to an end of speech that \
                    is taken too early.",
        source: "",
    },
    STRETCH,
    Measure {
        id: "runaway_clips",
        name: "clips that run on",
        estimator: share_of(|row| yes(row[1] >= LEAST_WORDS)),
        says: ["runs on after the text less often than", "runs on after the text more often than"],
        about: "clips in which four words or more were heard after the last one said, over all clips",
        explained: "The share of clips in which four words or more are heard after the last one of the text: a \
                    recogniser that invents, or a voice that goes on speaking.",
        ..STRETCH
    },
    Measure {
        id: "punctuation_f1",
        name: "punctuation F1",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &PUNCTUATION,
        estimator: Estimator::Smooth(f1),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["punctuates worse than", "punctuates better than"],
        about: "punctuation signs found, missed and invented behind the words both sides have",
        explained: "F1 of the punctuation signs around the words, over the words as written with case folded. \
                    Left out where labels or results write none at all.",
        source: "van Rijsbergen 1979",
    },
    Measure {
        id: "capitals_f1",
        name: "capitals F1",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &CAPITALS,
        estimator: Estimator::Smooth(f1),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["capitalises worse than", "capitalises better than"],
        about: "capitals found, missed and invented, word by word",
        explained: "F1 of the words that begin with a capital, or hold one, each held against the word it is \
                    paired with. Left out where labels or results write none at all.",
        source: "van Rijsbergen 1979",
    },
    Measure {
        id: "calibration_error",
        name: "calibration error",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &CONFIDENCE,
        estimator: Estimator::Gaps,
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["has better calibrated confidences than", "has worse calibrated confidences than"],
        about: "confidence of heard words against the share that was right, over ten bins",
        explained: "Expected calibration error: the mean gap between confidence and share right over ten bins of \
                    equal width, weighted by words. The gap that chance alone makes on so few words is taken off \
                    bin by bin, so that a calibrated engine has about 0.",
        source: "Naeini, Cooper and Hauskrecht 2015; Leone, Nelson and Nottingham 1961",
    },
    Measure {
        id: "roc_area",
        name: "ROC area",
        unit: Unit::Ratio,
        better: Better::Higher,
        tasks: &[Task::Hear],
        fact: &CONFIDENCE,
        estimator: Estimator::Area,
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["tells right words from wrong ones worse than", "tells right words from wrong ones better than"],
        about: "probability that a correct word has a higher confidence than a wrong one",
        explained: "Area under the receiver operating characteristic of the confidences: 0.5 is no better than \
                    chance, 1 separates them completely. Ties count half.",
        source: "Obuchowski 1997",
    },
];

/// Capitals found, missed and invented.
static CAPITALS: Fact = Fact {
    id: "capitals",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| counts(trial.hearing.map(|hearing| hearing.capitals), row),
};

/// Whether the first word said was not heard right.
static FIRST_WORD: Fact = Fact {
    id: "first_word",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.hearing.and_then(|hearing| hearing.first_word_wrong).map(yes)),
};

/// Whether the last word said was not heard right.
static LAST_WORD: Fact = Fact {
    id: "last_word",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.hearing.and_then(|hearing| hearing.last_word_wrong).map(yes)),
};

/// The most words in a row that were not heard, and words heard after the last one said.
static GAPS: Fact = Fact {
    id: "gaps",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let gaps = trial.hearing.map(|hearing| [hearing.longest_gap, hearing.words_after]);
        row.extend(gaps.iter().flatten().map(|words| *words as f64));
    },
};

/// Confidence of each heard word, and whether it was right.
static CONFIDENCE: Fact = Fact {
    id: "confidence",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let confidences = trial.hearing.iter().flat_map(|hearing| &hearing.confidences);
        row.extend(confidences.flat_map(|(confidence, right)| [confidence.clamp(0.0, 1.0), yes(*right)]));
    },
};

/// Signs found, missed and invented.
static PUNCTUATION: Fact = Fact {
    id: "punctuation",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| counts(trial.hearing.map(|hearing| hearing.punctuation), row),
};

/// Words heard in a clip in which nobody speaks.
static OVER_SILENCE: Fact = Fact {
    id: "over_silence",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let silent = trial.hearing.filter(|hearing| hearing.words.reference() == 0);
        row.extend(silent.map(|hearing| hearing.words.inserted as f64));
    },
};

/// Words in a row that are a stretch.
const LEAST_WORDS: f64 = 4.0;

/// 2F / (2F + M + I) of found, missed and invented; none where a side has none at all.
fn f1(sums: &[f64]) -> Option<f64> {
    let [found, missed, invented] = [sums[0], sums[1], sums[2]];
    (found + missed > 0.0 && found + invented > 0.0).then(|| 2.0 * found / (2.0 * found + missed + invented))
}
