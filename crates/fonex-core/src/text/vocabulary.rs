//! Words as numbers, so that comparing and counting them costs no more than comparing and counting numbers.

use std::collections::HashMap;
use std::hash::{BuildHasher, BuildHasherDefault, Hasher};
use std::sync::Arc;

use super::Token;
use crate::Table;

/// The words met so far, numbered from 0.
#[derive(Debug, Clone, Default)]
pub struct Vocabulary {
    /// Brief words looked up lately, each at the place that its key gives it, with its number: most words of a text are few, and
    /// these are near the processor. Empty until there is one.
    lately: Vec<(u64, u32)>,
    /// Numbers of brief words, of up to seven bytes, by the words themselves.
    brief: Table<u64, u32>,
    /// Numbers of short words likewise.
    short: Table<WordKey, u32>,
    /// Numbers of longer words by their hashes. Where two words share one, the later has the next free hash.
    numbers: HashMap<u64, u32, BuildHasherDefault<AsItIs>>,
    words: Vec<(Token, u64)>,
    identity: Identity,
}

/// Which of all vocabularies it is. A copy is another one: it goes on by itself.
#[derive(Debug, Default)]
struct Identity(Arc<()>);

impl Clone for Identity {
    fn clone(&self) -> Self {
        Self::default()
    }
}

/// The numbers that words of one vocabulary have in another, as far as they were asked for.
#[derive(Debug, Clone, Default)]
pub(crate) struct Numbering {
    /// The other one.
    of: Option<Identity>,
    numbers: Vec<u32>,
}

impl Numbering {
    /// What gives the number in `here` of a word of `there`, the same vocabulary at every call. Words that are new come in.
    pub(crate) fn of<'v>(
        &'v mut self,
        here: &'v mut Vocabulary,
        there: &'v Vocabulary,
    ) -> impl FnMut(u32) -> u32 + 'v {
        // Another number, or the last there can be.
        const UNKNOWN: u32 = u32::MAX;
        if self.of.as_ref().is_none_or(|of| !Arc::ptr_eq(&of.0, &here.identity.0)) {
            *self = Self { of: Some(Identity(Arc::clone(&here.identity.0))), numbers: Vec::new() };
        }
        self.numbers.resize(there.len(), UNKNOWN);
        let numbers = &mut self.numbers;
        move |word| {
            let number = &mut numbers[word as usize];
            if *number == UNKNOWN {
                *number = here.number(there.word(word));
            }
            *number
        }
    }
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

/// Words that are remembered as looked up lately.
const LATELY: u32 = 1 << 12;

/// A word of up to 15 bytes and its length as one number: no two words have the same. Longer ones share one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct WordKey(u128);

impl WordKey {
    const LONG: Self = Self(u128::MAX);

    /// A word of up to seven bytes and its length as a smaller number; of a longer one something else.
    const fn brief(self) -> u64 {
        self.0 as u64 | (self.0 >> 64) as u64
    }

    const fn is_brief(self) -> bool {
        self.0 < 8 << 120
    }

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
    #[inline]
    pub(crate) fn number_of(&mut self, key: WordKey, word: &str) -> u32 {
        let brief = key.brief();
        // The upper bits of a product depend on all bits of what is multiplied.
        let place = (brief.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (u64::BITS - LATELY.trailing_zeros())) as usize;
        match self.lately.get(place) {
            Some((known, number)) if *known == brief && key.is_brief() => *number,
            _ => self.look_up(place, key, word),
        }
    }

    #[inline(never)]
    fn look_up(&mut self, place: usize, key: WordKey, word: &str) -> u32 {
        if !key.is_brief() {
            return if key.is_whole() { self.number_of_short(key, word) } else { self.number_of_long(word) };
        }
        let brief = key.brief();
        let number = self.brief.get(&brief).copied().unwrap_or_else(|| {
            let number = self.add(word, Self::hash(word));
            self.brief.insert(brief, number);
            number
        });
        if self.lately.is_empty() {
            // No word is all ones.
            self.lately.resize(LATELY as usize, (u64::MAX, 0));
        }
        self.lately[place] = (brief, number);
        number
    }

    fn number_of_short(&mut self, key: WordKey, word: &str) -> u32 {
        if let Some(number) = self.short.get(&key) {
            return *number;
        }
        let number = self.add(word, Self::hash(word));
        self.short.insert(key, number);
        number
    }

    fn number_of_long(&mut self, word: &str) -> u32 {
        let hash = Self::hash(word);
        let mut place = hash;
        while let Some(number) = self.numbers.get(&place) {
            if self.words[*number as usize].0 == word {
                return *number;
            }
            place = place.wrapping_add(1);
        }
        let number = self.add(word, hash);
        self.numbers.insert(place, number);
        number
    }

    /// Appends a word that is not there yet; gives its number.
    fn add(&mut self, word: &str, hash: u64) -> u32 {
        let number = u32::try_from(self.words.len()).expect("there are fewer than 2^32 different words");
        self.words.push((Token::from(word), hash));
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
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn more_words_than_are_remembered_keep_their_numbers() {
        let mut vocabulary = Vocabulary::default();
        // Brief, short and long ones.
        let words: Vec<String> =
            (0..20_000).map(|n| ["", "short", "long and longer"][n % 3].to_owned() + &n.to_string()).collect();
        for _ in 0..2 {
            for (number, word) in (0..).zip(&words) {
                assert_eq!(vocabulary.number(word), number);
            }
        }
        assert_eq!(vocabulary.len(), words.len());
    }

    #[test]
    fn numbers_in_another_vocabulary_are_asked_anew_of_a_third() {
        let (mut one, mut other, mut there) = (Vocabulary::default(), Vocabulary::default(), Vocabulary::default());
        let mut numbering = Numbering::default();
        ["x", "b"].iter().for_each(|word| _ = one.number(word));
        ["a", "b"].iter().for_each(|word| _ = there.number(word));
        let mut all = |here: &mut Vocabulary, there: &Vocabulary| -> Vec<u32> {
            let number = numbering.of(here, there);
            (0..there.len() as u32).map(number).collect()
        };
        assert_eq!(all(&mut one, &there), [2, 1]);
        there.number("c");
        assert_eq!(all(&mut one, &there), [2, 1, 3]);
        let mut copy = one.clone();
        assert_eq!(all(&mut other, &there), [0, 1, 2]);
        ["d", "e"].iter().for_each(|word| _ = copy.number(word));
        there.number("e");
        assert_eq!(all(&mut copy, &there), [2, 1, 3, 5]);
        assert_eq!(all(&mut one, &there), [2, 1, 3, 4]);
    }

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
