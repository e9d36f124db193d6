//! The kind of mistake that one word taken for another is.

use super::kinds::MistakeKind;
use crate::Table;
use crate::align::edit_distance;
use crate::text::{NumberLanguage, TextStep, Vocabulary};

/// Characters of the longest word whose spelling is looked at.
const LONGEST_WORD: usize = 200;

/// A letter as it is compared: a byte where words are plain.
trait Letter: Copy + Eq + std::hash::Hash + Into<char> {}

impl Letter for u8 {}
impl Letter for char {}

/// Tells the kinds of pairs of words of one vocabulary; what takes long to tell is kept.
#[derive(Debug, Clone, Default)]
pub(super) struct KindsOfPairs {
    known: Table<(u32, u32), MistakeKind>,
}

/// Kinds of pairs that are kept.
const KINDS_KEPT: usize = 1 << 14;

impl KindsOfPairs {
    pub(super) fn kind(&mut self, vocabulary: &Vocabulary, said: u32, heard: u32) -> MistakeKind {
        let words = [said, heard].map(|number| vocabulary.word(number).as_str());
        if let Some(kind) = kind_of_plain(words[0], words[1]) {
            return kind;
        }
        if self.known.len() >= KINDS_KEPT {
            self.known.clear();
        }
        *self.known.entry((said, heard)).or_insert_with(|| kind_of_pair(words[0], words[1]))
    }
}

/// The letters of a word of small Latin letters alone, a bit each; none of any other.
fn plain_letters(word: &str) -> Option<u32> {
    let letters = word.bytes().fold(0, |letters, byte| letters | 1_u32.wrapping_shl(u32::from(byte & 31)));
    let plain = word.bytes().fold(!word.is_empty(), |plain, byte| plain & byte.is_ascii_lowercase());
    plain.then_some(letters)
}

/// [`kind_of_pair`] of two words of small Latin letters; none of others, and of the same word.
fn kind_of_plain(said: &str, heard: &str) -> Option<MistakeKind> {
    let letters = [plain_letters(said)?, plain_letters(heard)?];
    (said != heard).then(|| {
        // Each letter that only one word has is at least one to change.
        let fewest = (letters[0] & !letters[1]).count_ones().max((letters[1] & !letters[0]).count_ones());
        kind_of_letters(said.as_bytes(), heard.as_bytes(), fewest as usize)
    })
}

/// The kind of one word taken for another.
#[must_use]
pub fn kind_of_pair(said: &str, heard: &str) -> MistakeKind {
    if let Some(kind) = kind_of_plain(said, heard) {
        return kind;
    }
    let [said_low, heard_low] = [said, heard].map(str::to_lowercase);
    if said_low == heard_low {
        return MistakeKind::Case;
    }
    let bare = |word: &str| word.chars().filter(|c| c.is_alphanumeric()).collect::<String>();
    let [said_bare, heard_bare] = [bare(&said_low), bare(&heard_low)];
    if said_bare == heard_bare && !said_bare.is_empty() {
        return MistakeKind::Punctuation;
    }
    if is_number_form(&said_bare, &heard_bare) || is_number_form(&heard_bare, &said_bare) {
        return MistakeKind::NumberForm;
    }
    let latin = |word: &str| word.chars().filter(|c| c.is_alphabetic()).all(|c| (c as u32) < 0x0250);
    if latin(&said_bare) != latin(&heard_bare) {
        return MistakeKind::Script;
    }
    let [said, heard]: [Vec<char>; 2] = [said_bare, heard_bare].map(|word| word.chars().collect());
    kind_of_letters(&said, &heard, 0)
}

/// Whether one word is a number in digits and the other the same number in words of any language that is known, or the part
/// of it that a longer number begins with: "twenty" of 21, "hundred" of 105.
fn is_number_form(digits: &str, word: &str) -> bool {
    let Ok(value) = digits.parse::<u64>() else { return false };
    NumberLanguage::ALL.iter().any(|language| {
        let spelled = TextStep::Numbers(*language).apply(word).parse::<u64>();
        spelled.is_ok_and(|spelled| {
            let size = 10_u64.checked_pow(spelled.max(1).ilog10()).unwrap_or(u64::MAX);
            let begins = spelled >= 20 && spelled % 10 == 0 && value >= spelled && value / size == spelled / size;
            spelled == value || begins
        })
    })
}

/// The kind of two words whose letters are told apart; at least `fewest` of them are to be changed.
fn kind_of_letters<L: Letter>(said: &[L], heard: &[L], fewest: usize) -> MistakeKind {
    if are_forms_of_one(said, heard) {
        return MistakeKind::Inflection;
    }
    if are_near(said, heard, fewest) { MistakeKind::Near } else { MistakeKind::Different }
}

/// Forms of one word share their beginning, at least three letters and more than half of the longer one, and differ
/// in an ending of up to three.
fn are_forms_of_one<L: Letter>(a: &[L], b: &[L]) -> bool {
    const ENDING: usize = 3;
    let shared = a.iter().zip(b).take_while(|(x, y)| x == y).count();
    let longer = a.len().max(b.len());
    shared >= 3 && shared * 2 > longer && a.len() - shared <= ENDING && b.len() - shared <= ENDING && {
        // "station" and "stations", but not "lower" and "lowed": one of the endings is short.
        (a.len() - shared).min(b.len() - shared) <= 1
    }
}

/// Near in spelling: at most a third of the longer word's letters to change. Near in sound: the same key.
fn are_near<L: Letter>(a: &[L], b: &[L], fewest: usize) -> bool {
    let longer = a.len().max(b.len());
    let fewest = fewest.max(a.len().abs_diff(b.len()));
    // What is longer than any word is not spelled in another way.
    let in_spelling = longer <= LONGEST_WORD && fewest * 3 <= longer && edit_distance(a, b) as usize * 3 <= longer;
    in_spelling || (longer > 2 && sound_key(a).eq(sound_key(b)))
}

/// What is left of a word's sound when vowels, doubled letters and letters that sound alike are made one. Written for
/// Latin letters; a coarse key in the manner of Russell's index (US patent 1,261,167, 1918), over the whole word.
fn sound_key<L: Letter>(word: &[L]) -> impl Iterator<Item = char> {
    let mut last = None;
    word.iter().enumerate().filter_map(move |(at, letter)| {
        let next = word.get(at + 1).map(|next| (*next).into());
        let class = match (*letter).into() {
            'p' if next == Some('h') => 'f',
            'b' | 'p' => 'p',
            'f' | 'v' | 'w' => 'f',
            'c' if matches!(next, Some('e' | 'i' | 'y')) => 's',
            'c' | 'k' | 'q' | 'g' | 'x' => 'k',
            's' | 'z' | 'ß' => 's',
            'd' | 't' => 't',
            'm' | 'n' => 'n',
            'l' => 'l',
            'r' => 'r',
            'j' => 'j',
            'h' => return None,
            'a' | 'e' | 'i' | 'o' | 'u' | 'y' | 'ä' | 'ö' | 'ü' | 'é' | 'è' | 'ê' | 'á' | 'í' | 'ó' | 'ú' => {
                if at == 0 {
                    'a'
                } else {
                    return None;
                }
            }
            other => other,
        };
        (last.replace(class) != Some(class)).then_some(class)
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn pairs_by_hand() {
        for (said, heard, kind) in [
            ("Gate", "gate", MistakeKind::Case),
            ("don't", "dont", MistakeKind::Punctuation),
            ("fourteen", "14", MistakeKind::NumberForm),
            ("14", "40", MistakeKind::Different),
            ("vierzehn", "14", MistakeKind::NumberForm),
            ("twenty", "21", MistakeKind::NumberForm),
            ("105", "hundred", MistakeKind::NumberForm),
            ("fourteen", "40", MistakeKind::Different),
            ("twenty", "31", MistakeKind::Different),
            ("gate", "8", MistakeKind::Different),
            ("b12", "bee", MistakeKind::Different),
            ("doors", "door", MistakeKind::Inflection),
            ("stations", "station", MistakeKind::Inflection),
            ("closed", "close", MistakeKind::Inflection),
            ("sale", "sail", MistakeKind::Near),
            ("night", "knight", MistakeKind::Near),
            ("fourteen", "forty", MistakeKind::Different),
            ("six", "sex", MistakeKind::Near),
            ("gate", "ворота", MistakeKind::Script),
            ("hold", "mountain", MistakeKind::Different),
        ] {
            assert_eq!(kind_of_pair(said, heard), kind, "{said} {heard}");
        }
    }

    proptest! {
        /// The slow twin looks at every letter.
        #[test]
        fn plain_words_are_of_the_kind_that_their_letters_tell(said in "[a-f]{1,9}", heard in "[a-f]{1,9}|[a-z]{1,9}") {
            let letters = |word: &str| word.chars().collect::<Vec<_>>();
            let slow = (said != heard).then(|| kind_of_letters(&letters(&said), &letters(&heard), 0));
            prop_assert_eq!(kind_of_plain(&said, &heard), slow);
            for other in ["", "Ab", "b1", "b-", "é"] {
                prop_assert_eq!(kind_of_plain(&said, other), None);
            }
        }
    }
}
