//! Digits and words made one: whatever a number is written as, it becomes the same token.
//!
//! Both sides of a comparison are brought into one form in digits. What that form is matters less than that "nineteen
//! eighty-four" and "1984" share it; so times and years, which people say alike, are both joined ("7:20" and "seven
//! twenty" become 720).

mod digits;
mod english;
mod french;
mod german;
mod grammar;
mod spanish;

pub(super) use english::{one_word, one_word_ordinal};
use serde::{Deserialize, Serialize};

use super::forms::BOUNDARY;

/// A language whose numbers are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub enum NumberLanguage {
    /// English.
    #[serde(rename = "en")]
    English,
    /// German.
    #[serde(rename = "de")]
    German,
    /// French.
    #[serde(rename = "fr")]
    French,
    /// Spanish.
    #[serde(rename = "es")]
    Spanish,
}

impl NumberLanguage {
    /// Every language.
    pub const ALL: [Self; 4] = [Self::English, Self::German, Self::French, Self::Spanish];

    /// Brings the numbers of a text into one form. Case must be folded and punctuation gone before. Cost is linear.
    #[must_use]
    pub fn apply(self, text: &str) -> String {
        let tokens: Vec<&str> = text.split_whitespace().collect();
        // Numbers do not join across the end of a sentence.
        let parts = tokens.split(|token| *token == BOUNDARY).map(|tokens| match self {
            Self::English => english::in_digits(tokens).join(" "),
            Self::German => grammar::in_digits(&german::GRAMMAR, tokens).join(" "),
            Self::French => grammar::in_digits(&french::GRAMMAR, tokens).join(" "),
            Self::Spanish => grammar::in_digits(&spanish::GRAMMAR, tokens).join(" "),
        });
        parts.filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" ")
    }
}

/// A number from 0 to 999 in words at the beginning, and how many it takes; English has its own reader of words.
pub(super) fn below_thousand(language: NumberLanguage, tokens: &[&str]) -> Option<(u64, usize)> {
    let grammar = match language {
        NumberLanguage::English => return None,
        NumberLanguage::German => &german::GRAMMAR,
        NumberLanguage::French => &french::GRAMMAR,
        NumberLanguage::Spanish => &spanish::GRAMMAR,
    };
    (grammar.below_thousand)(tokens)
}

#[cfg(test)]
mod tests;
