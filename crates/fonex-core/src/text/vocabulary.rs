//! Words as numbers, so that comparing and counting them costs no more than comparing and counting numbers.

use std::collections::HashMap;
use std::hash::{BuildHasher, BuildHasherDefault, Hasher};

use super::Token;

/// The words met so far, numbered from 0.
#[derive(Debug, Clone, Default)]
pub struct Vocabulary {
    /// Numbers by the words' hashes. Where two words share one, the later has the next free hash.
    numbers: HashMap<u64, u32, BuildHasherDefault<AsItIs>>,
    words: Vec<(Token, u64)>,
}

/// The hash of a key that is one already.
#[derive(Debug, Clone, Copy, Default)]
struct AsItIs(u64);

impl Hasher for AsItIs {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write_u64(&mut self, hash: u64) {
        self.0 = hash;
    }

    fn write(&mut self, _: &[u8]) {
        unreachable!("only numbers of 64 bits are hashed");
    }
}

impl Vocabulary {
    /// The hash of a word, the same in every vocabulary. Of a million different words two share one once in forty
    /// million texts.
    #[must_use]
    pub fn hash(word: &str) -> u64 {
        foldhash::quality::FixedState::with_seed(3).hash_one(word)
    }

    /// The number of a word; a new word gets the next one.
    ///
    /// # Panics
    /// With more than 2^32 different words.
    pub fn number(&mut self, word: &str) -> u32 {
        let hash = Self::hash(word);
        let mut place = hash;
        while let Some(number) = self.numbers.get(&place) {
            if self.words[*number as usize].0 == word {
                return *number;
            }
            place = place.wrapping_add(1);
        }
        let number = u32::try_from(self.words.len()).expect("there are fewer than 2^32 different words");
        self.words.push((Token::from(word), hash));
        self.numbers.insert(place, number);
        number
    }

    /// The word of a number.
    ///
    /// # Panics
    /// When the number is not this vocabulary's.
    #[must_use]
    pub fn word(&self, number: u32) -> &Token {
        &self.words[number as usize].0
    }

    /// [`Self::hash`] of the word of a number.
    ///
    /// # Panics
    /// When the number is not this vocabulary's.
    #[must_use]
    pub fn hash_of(&self, number: u32) -> u64 {
        self.words[number as usize].1
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
        other.words.iter().map(|(word, _)| self.number(word)).collect()
    }
}
