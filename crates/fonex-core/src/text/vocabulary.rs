//! Words as numbers, so that comparing and counting them costs no more than comparing and counting numbers.

use super::Token;
use crate::Table;

/// The words met so far, numbered from 0.
#[derive(Debug, Clone, Default)]
pub struct Vocabulary {
    numbers: Table<Token, u32>,
    words: Vec<Token>,
}

impl Vocabulary {
    /// The number of a word; a new word gets the next one.
    ///
    /// # Panics
    /// With more than 2^32 different words.
    pub fn number(&mut self, word: &str) -> u32 {
        if let Some(number) = self.numbers.get(word) {
            return *number;
        }
        let number = u32::try_from(self.words.len()).expect("there are fewer than 2^32 different words");
        let word = Token::from(word);
        self.words.push(word.clone());
        self.numbers.insert(word, number);
        number
    }

    /// The word of a number.
    ///
    /// # Panics
    /// When the number is not this vocabulary's.
    #[must_use]
    pub fn word(&self, number: u32) -> &Token {
        &self.words[number as usize]
    }

    /// How many words there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.words.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.words.is_empty()
    }

    /// Takes in the words of another; gives what each of its numbers is here.
    pub fn take_in(&mut self, other: &Self) -> Vec<u32> {
        other.words.iter().map(|word| self.number(word)).collect()
    }
}
