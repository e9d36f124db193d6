//! Words that matter more than others: error rates weighted by a project's own list.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::clip_score::Comparer;
use crate::align::Edit;
use crate::text::{TextProfile, Token};
use crate::{Table, align::EditCounts};

/// What each word weighs; a word that is not listed weighs 1.
#[derive(Debug, Clone, Default)]
pub struct WordWeights {
    by_token: Table<Token, f64>,
}

/// An error rate in which each word counts for its weight.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct WeightedRate {
    /// Weights of the wrong words over the weights of the words said; null without a word in the labels. A substituted or
    /// deleted word counts for what was said, an inserted one for what was heard.
    pub wer: Option<f64>,
    /// Weights of the words said.
    pub said: f64,
    /// Weights of the wrong words.
    pub wrong: f64,
}

impl WordWeights {
    /// Weights by word, as the text profile leaves it. Of a word of several tokens each has the weight.
    ///
    /// # Errors
    /// The word whose weight is no number from 0 on.
    pub fn new(profile: &TextProfile, weights: &BTreeMap<String, f64>) -> Result<Self, String> {
        let mut by_token = Table::default();
        for (word, weight) in weights {
            if !weight.is_finite() || *weight < 0.0 {
                return Err(word.clone());
            }
            by_token.extend(profile.tokens(word).into_iter().map(|token| (token, *weight)));
        }
        Ok(Self { by_token })
    }

    /// The rate over the words of these counts, for which each listed word counted differently in `listed`.
    pub(super) fn rate(&self, counts: EditCounts, listed: &WeightedTally) -> Option<WeightedRate> {
        if self.by_token.is_empty() {
            return None;
        }
        let (mut said, mut wrong) = (counts.reference() as f64, counts.errors() as f64);
        // In the order of the words, so that the same input gives the same bytes.
        let ordered: BTreeMap<&Token, &[u64; 2]> = listed.by_token.iter().collect();
        for (token, [times, errors]) in ordered {
            let more = self.by_token[token] - 1.0;
            said += more * *times as f64;
            wrong += more * *errors as f64;
        }
        Some(WeightedRate { wer: (said > 0.0).then(|| wrong / said), said, wrong })
    }
}

/// How often each listed word was said and was wrong.
#[derive(Debug, Clone, Default)]
pub(super) struct WeightedTally {
    by_token: Table<Token, [u64; 2]>,
}

impl WeightedTally {
    pub(super) fn add(&mut self, weights: &WordWeights, compared: &Comparer) {
        if weights.by_token.is_empty() {
            return;
        }
        for step in &compared.steps {
            let Some(token) = step.said.or(step.heard).map(|number| compared.vocabulary.word(number)) else {
                continue;
            };
            if weights.by_token.contains_key(token) {
                let counts = self.by_token.entry(token.clone()).or_default();
                counts[0] += u64::from(step.said.is_some());
                counts[1] += u64::from(step.edit != Edit::Correct);
            }
        }
    }

    pub(super) fn merge(&mut self, other: Self) {
        for (token, [said, wrong]) in other.by_token {
            let counts = self.by_token.entry(token).or_default();
            *counts = [counts[0] + said, counts[1] + wrong];
        }
    }
}
