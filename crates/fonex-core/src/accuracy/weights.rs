//! Words that matter more than others: error rates weighted by a project's own list.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::clip_score::Comparer;
use crate::Table;
use crate::align::Edit;
use crate::text::{TextProfile, Token};

/// What each word weighs; a word that is not listed weighs 1.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct WordWeights {
    #[serde(with = "crate::tables")]
    by_token: Table<Token, f64>,
}

/// An error rate in which each word counts for its weight.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
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

    /// Weights of the words said and of the wrong words of the clip compared last; none where no word has a weight.
    pub(super) fn weigh(&self, compared: &Comparer) -> Option<[f64; 2]> {
        if self.by_token.is_empty() {
            return None;
        }
        let mut sums = [0.0; 2];
        for step in &compared.steps {
            let Some(number) = step.said.or(step.heard) else { continue };
            let weight = self.by_token.get(compared.vocabulary.word(number)).copied().unwrap_or(1.0);
            sums[0] += if step.said.is_some() { weight } else { 0.0 };
            sums[1] += if step.edit == Edit::Correct { 0.0 } else { weight };
        }
        Some(sums)
    }
}
