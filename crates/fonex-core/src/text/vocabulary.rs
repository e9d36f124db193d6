//! Words as numbers, so that comparing and counting them costs no more than comparing and counting numbers.

use std::collections::HashMap;
use std::hash::{BuildHasher, BuildHasherDefault, Hasher};

use super::Token;
use crate::Table;

/// The words met so far, numbered from 0.
#[derive(Debug, Clone, Default)]
pub struct Vocabulary {
    /// Numbers of short words, by the words themselves.
    short: Table<WordKey, u32>,
    /// Numbers of longer words by their hashes. Where two words share one, the later has the next free hash.
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

/// A word of up to 15 bytes and its length as one number: no two words have the same. Longer ones share one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct WordKey(u128);

impl WordKey {
    const LONG: Self = Self(u128::MAX);

    /// Of a word whose bytes are the lowest of a number, the first one lowest, with nothing above them.
    pub(super) const fn packed(bytes: u128, length: usize) -> Self {
        Self(bytes | (length as u128) << 120)
    }

    pub(crate) fn of(word: &str) -> Self {
        packed(word.as_bytes()).unwrap_or(Self::LONG)
    }

    /// Whether it stands for the whole word.
    pub(crate) fn is_whole(self) -> bool {
        self != Self::LONG
    }
}

fn packed(word: &[u8]) -> Option<WordKey> {
    let length = word.len();
    let (low, high) = match length {
        0..=3 => (word.iter().rev().fold(0, |low, byte| low << 8 | u64::from(*byte)), 0),
        4..=7 => {
            let (head, tail) =
                (u64::from(u32::from_le_bytes(*word.first_chunk()?)), u32::from_le_bytes(*word.last_chunk()?));
            (head | (u64::from(tail) >> (8 * (8 - length))) << 32, 0)
        }
        8..=15 => {
            let (head, tail) = (u64::from_le_bytes(*word.first_chunk()?), u64::from_le_bytes(*word.last_chunk()?));
            (head, if length == 8 { 0 } else { tail >> (8 * (16 - length)) })
        }
        _ => return None,
    };
    Some(WordKey::packed(u128::from(low) | u128::from(high) << 64, length))
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
        self.number_of(WordKey::of(word), word)
    }

    /// [`Self::number`] of a word whose key is known.
    pub(crate) fn number_of(&mut self, key: WordKey, word: &str) -> u32 {
        if key.is_whole() {
            if let Some(number) = self.short.get(&key) {
                return *number;
            }
            let number = self.next();
            self.words.push((Token::from(word), Self::hash(word)));
            self.short.insert(key, number);
            return number;
        }
        let hash = Self::hash(word);
        let mut place = hash;
        while let Some(number) = self.numbers.get(&place) {
            if self.words[*number as usize].0 == word {
                return *number;
            }
            place = place.wrapping_add(1);
        }
        let number = self.next();
        self.words.push((Token::from(word), hash));
        self.numbers.insert(place, number);
        number
    }

    fn next(&self) -> u32 {
        u32::try_from(self.words.len()).expect("there are fewer than 2^32 different words")
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
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn equal_words_and_no_others_share_a_number(words in prop::collection::vec("[ab\\x00é]{0,20}", 0..40)) {
            let mut vocabulary = Vocabulary::default();
            let numbers: Vec<u32> = words.iter().map(|word| vocabulary.number(word)).collect();
            for (a, number) in words.iter().zip(&numbers) {
                prop_assert_eq!(vocabulary.word(*number).as_str(), a);
                prop_assert_eq!(vocabulary.hash_of(*number), Vocabulary::hash(a));
                for (b, other) in words.iter().zip(&numbers) {
                    prop_assert_eq!(a == b, number == other);
                }
            }
        }

        #[test]
        fn a_short_word_is_packed_byte_by_byte(word in prop::collection::vec(any::<u8>(), 0..18)) {
            let slow = || {
                let bytes = word.iter().rev().fold(0, |all, byte| all << 8 | u128::from(*byte));
                bytes | (word.len() as u128) << 120
            };
            prop_assert_eq!(packed(&word).map(|key| key.0), (word.len() < 16).then(slow));
        }
    }
}
