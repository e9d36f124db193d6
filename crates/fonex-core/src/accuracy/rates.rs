//! Error rates, which never travel without the counts they stand on.

use serde::{Deserialize, Serialize};

use crate::align::EditCounts;
use crate::measures::Estimate;
use crate::stats::Interval;

/// Word error rates over a set of clips.
///
/// WER = (S + D + I) / N; MER = (S + D + I) / (N + I); WIL = 1 - C/N x C/P, with P the words heard (Morris, Maier and
/// Green, "From WER and RIL to MER and WIL", 2004). Without a word in the labels there is no rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct WordRates {
    /// Words in the labels, N.
    pub reference: u64,
    /// Words heard right, C.
    pub correct: u64,
    /// Words heard as another, S.
    pub substituted: u64,
    /// Words not heard, D.
    pub deleted: u64,
    /// Words heard that nobody said, I.
    pub inserted: u64,
    /// Word error rate; null without a word in the labels.
    pub wer: Option<f64>,
    /// Match error rate; null when nothing was said or heard.
    pub mer: Option<f64>,
    /// Word information lost; null without a word in the labels.
    pub wil: Option<f64>,
    /// 95 % interval of the WER over clips; left out for fewer than two clips.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
}

impl WordRates {
    /// The rates of summed counts, with the estimate of the WER, in which each clip's repeats count once.
    #[must_use]
    pub fn new(counts: EditCounts, wer: Option<&Estimate>) -> Self {
        let EditCounts { correct, substituted, deleted, inserted } = counts;
        let reference = counts.reference();
        let lost = if correct == 0 {
            1.0
        } else {
            1.0 - (correct as f64 / reference as f64) * (correct as f64 / counts.heard() as f64)
        };
        Self {
            reference,
            correct,
            substituted,
            deleted,
            inserted,
            wer: wer.map_or_else(|| share(counts.errors(), reference), |wer| Some(wer.value)),
            mer: share(counts.errors(), reference + inserted),
            wil: (reference > 0).then_some(lost),
            interval: wer.and_then(|wer| wer.interval),
        }
    }
}

/// Character error rates over a set of clips; spaces between words count as characters.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct CharacterRates {
    /// Characters in the labels.
    pub reference: u64,
    /// Characters heard right.
    pub correct: u64,
    /// Characters heard as another.
    pub substituted: u64,
    /// Characters not heard.
    pub deleted: u64,
    /// Characters heard that nobody said.
    pub inserted: u64,
    /// Character error rate; null without a character in the labels.
    pub cer: Option<f64>,
}

impl From<EditCounts> for CharacterRates {
    fn from(counts: EditCounts) -> Self {
        let EditCounts { correct, substituted, deleted, inserted } = counts;
        let reference = counts.reference();
        Self { reference, correct, substituted, deleted, inserted, cer: share(counts.errors(), reference) }
    }
}

/// A share of a whole, or none of nothing.
pub(super) fn share(part: u64, whole: u64) -> Option<f64> {
    (whole > 0).then(|| part as f64 / whole as f64)
}
