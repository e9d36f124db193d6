//! Rates of wrong words and characters.

use super::{rate, share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trial, Trials, Unit};

const RATE: Measure = Measure {
    id: "wer",
    name: "WER",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Hear],
    fact: &WORDS,
    estimator: rate(|row| row[1] + row[2] + row[3], |row| row[0] + row[1] + row[2]),
    asked: true,
    matters: Matters::Amount(0.005),
    rare: false,
    says: ["gets fewer words wrong than", "gets more words wrong than"],
    about: "words substituted, deleted and inserted, over the words of the labels",
    explained: "Word error rate: (S + D + I) / N over the whole set, after the text profile, of the alignment \
                with the fewest edits. It can exceed 100 % when many words are inserted. Never the mean of the \
                clips' own rates.",
    source: "Levenshtein 1966; interval: docs/statistics.md",
};

pub(super) static ALL: &[Measure] = &[
    RATE,
    Measure {
        id: "cer",
        name: "CER",
        fact: &CHARACTERS,
        estimator: rate(|row| row[0], |row| row[1]),
        asked: false,
        says: ["gets fewer characters wrong than", "gets more characters wrong than"],
        about: "characters substituted, deleted and inserted, over the characters of the labels",
        explained: "Character error rate over extended grapheme clusters; single spaces between words count as \
                    characters. It forgives near misses that the WER counts in full, and suits languages without \
                    spaces.",
        source: "Levenshtein 1966; UAX 29",
        ..RATE
    },
    Measure {
        id: "mer",
        name: "MER",
        estimator: Estimator::Ratio {
            part: |row| row[1] + row[2] + row[3],
            whole: |row| row[0] + row[1] + row[2] + row[3],
            bounds: (0.0, 1.0),
            most: 1.0,
        },
        asked: false,
        says: ["gets a smaller share of words wrong than", "gets a larger share of words wrong than"],
        about: "wrong words over words said or heard",
        explained: "Match error rate: (S + D + I) / (N + I), the share of all words said or heard that are wrong; \
                    unlike the WER it cannot exceed 100 %.",
        source: "Morris, Maier and Green 2004",
        ..RATE
    },
    Measure {
        id: "wil",
        name: "WIL",
        estimator: Estimator::Smooth(lost),
        asked: false,
        says: ["loses less word information than", "loses more word information than"],
        about: "words heard right, against words said and words heard",
        explained: "Word information lost: 1 - C/N x C/P, with C words right, N words said and P words heard. \
                    Invented and missed words weigh the same.",
        source: "Morris, Maier and Green 2004",
        ..RATE
    },
    Measure {
        id: "ser",
        name: "SER",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Hear],
        fact: &WORDS,
        estimator: share_of(|row| yes(row[1] + row[2] + row[3] > 0.0)),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["gets fewer clips wrong than", "gets more clips wrong than"],
        about: "clips with at least one wrong word, over all clips",
        explained: "Sentence error rate: the share of clips with at least one wrong word. A repeated clip counts \
                    once, by the share of its repeats that have an error.",
        source: "",
    },
    Measure {
        id: "wer_as_written",
        name: "WER as written",
        fact: &AS_WRITTEN,
        estimator: rate(|row| row[0], |row| row[1]),
        asked: false,
        says: ["is closer to the labels as written than", "is further from the labels as written than"],
        about: "wrong words without any text profile",
        explained: "The WER of the texts as they are written: capitals, punctuation and number forms count. The \
                    difference from the WER is what the text profile forgives.",
        source: "Levenshtein 1966",
        ..RATE
    },
    Measure {
        id: "wer_failures_as_empty",
        name: "WER, failures as empty",
        fact: &WORDS_OF_ALL,
        asked: false,
        says: ["gets fewer words wrong, failures counted, than", "gets more words wrong, failures counted, than"],
        about: "wrong words over all trials, one without an answer counted as an empty text",
        explained: "The WER over all trials, with every trial that has no answer counted as an empty result: each \
                    of its words is deleted. It equals the WER where every trial was answered.",
        source: "Levenshtein 1966",
        ..RATE
    },
    Measure {
        id: "weighted_wer",
        name: "weighted WER",
        fact: &WEIGHTED,
        estimator: rate(|row| row[0], |row| row[1]),
        asked: false,
        says: ["gets less of the weighted words wrong than", "gets more of the weighted words wrong than"],
        about: "weights of the wrong words over the weights of the words said",
        explained: "The WER with every word counted by its weight in the project's list; a word that is not \
                    listed weighs 1. A substituted or deleted word weighs as what was said, an inserted one as \
                    what was heard.",
        source: "",
        ..RATE
    },
];

/// Correct, substituted, deleted and inserted words.
static WORDS: Fact = Fact { id: "words", version: 0, width: 4, timed: false, of: Trials::Answered, observe: words };

/// Wrong characters and characters said.
static CHARACTERS: Fact = Fact {
    id: "characters",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(hearing) = trial.hearing {
            row.extend([hearing.characters.errors() as f64, hearing.characters.reference() as f64]);
        }
    },
};

/// Weights of the wrong words and of the words said.
static WEIGHTED: Fact = Fact {
    id: "weighted",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some([said, wrong]) = trial.hearing.and_then(|hearing| hearing.weighted) {
            row.extend([wrong, said]);
        }
    },
};

/// Wrong words and words said of the texts as they are written.
static AS_WRITTEN: Fact = Fact {
    id: "as_written",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(hearing) = trial.hearing {
            row.extend([hearing.as_written.errors() as f64, hearing.as_written.reference() as f64]);
        }
    },
};

/// Word counts of every trial.
static WORDS_OF_ALL: Fact =
    Fact { id: "words_of_all", version: 0, width: 4, timed: false, of: Trials::All, observe: words };

fn words(trial: &Trial<'_>, row: &mut Vec<f64>) {
    if let Some(hearing) = trial.hearing {
        let words = hearing.words;
        row.extend([words.correct, words.substituted, words.deleted, words.inserted].map(|n| n as f64));
    }
}

/// 1 - C/N x C/P of correct, substituted, deleted and inserted words.
fn lost(sums: &[f64]) -> Option<f64> {
    let (said, heard) = (sums[0] + sums[1] + sums[2], sums[0] + sums[1] + sums[3]);
    (said > 0.0).then(|| if sums[0] > 0.0 { 1.0 - (sums[0] / said) * (sums[0] / heard) } else { 1.0 })
}
