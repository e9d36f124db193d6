//! The kind of each mistake, judged from the words alone.

use serde::{Deserialize, Serialize};

use super::clip_score::NumberedStep;
use crate::align::{Edit, edit_distance};
use crate::text::{NumberLanguage, TextStep, Vocabulary};

/// Characters of the longest word whose spelling is looked at.
const LONGEST_WORD: usize = 200;

/// What kind of mistake a wrong word is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum MistakeKind {
    /// The same letters, parted elsewhere: "help point" and "helppoint".
    Spacing,
    /// The same word but for capitals.
    Case,
    /// The same word but for signs in or around it.
    Punctuation,
    /// The same number, in digits on one side and in words on the other.
    NumberForm,
    /// Another form of the same word: "door" and "doors".
    Inflection,
    /// Near in spelling or in sound: "sale" and "sail".
    Near,
    /// Letters of another script.
    Script,
    /// A different word.
    Different,
    /// Not heard, one or two in a row.
    Dropped,
    /// Not heard, three or more in a row.
    DroppedRun,
    /// Invented, one or two in a row.
    Invented,
    /// Invented, three or more in a row.
    InventedRun,
    /// Invented by saying the words just before again.
    Repeated,
}

impl MistakeKind {
    /// Every kind, in the order of their declaration.
    pub const ALL: [Self; 13] = [
        Self::Spacing,
        Self::Case,
        Self::Punctuation,
        Self::NumberForm,
        Self::Inflection,
        Self::Near,
        Self::Script,
        Self::Different,
        Self::Dropped,
        Self::DroppedRun,
        Self::Invented,
        Self::InventedRun,
        Self::Repeated,
    ];

    /// Its name for people.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Spacing => "spacing",
            Self::Case => "case only",
            Self::Punctuation => "signs only",
            Self::NumberForm => "number form",
            Self::Inflection => "inflection",
            Self::Near => "near in sound or spelling",
            Self::Script => "other script",
            Self::Different => "different word",
            Self::Dropped => "dropped word",
            Self::DroppedRun => "dropped run",
            Self::Invented => "invented word",
            Self::InventedRun => "invented run",
            Self::Repeated => "repetition",
        }
    }
}

/// Words in a row that make a run.
const RUN: usize = 3;
/// The longest stretch of words looked for as repeated.
const LONGEST_REPEATED: usize = 8;

/// Puts the kind of each step into `kinds`, none for a correct one; `kind_of_pair` tells it of two words. Cost is linear
/// in the steps, but for repeated stretches, which are looked for up to eight words long.
pub(super) fn kinds_of(
    steps: &[NumberedStep],
    vocabulary: &Vocabulary,
    kinds: &mut Vec<Option<MistakeKind>>,
    mut kind_of_pair: impl FnMut(u32, u32) -> MistakeKind,
) {
    let alone = |step: &NumberedStep| match step.edit {
        Edit::Correct => None,
        Edit::Deleted => Some(MistakeKind::Dropped),
        Edit::Inserted => Some(MistakeKind::Invented),
        Edit::Substituted => Some(kind_of_pair(step.said?, step.heard?)),
    };
    kinds.clear();
    kinds.extend(steps.iter().map(alone));
    let mut start = 0;
    while start < steps.len() {
        if steps[start].edit == Edit::Correct {
            start += 1;
            continue;
        }
        let end =
            steps[start..].iter().position(|step| step.edit == Edit::Correct).map_or(steps.len(), |n| start + n);
        mark_spacing(&steps[start..end], vocabulary, &mut kinds[start..end]);
        start = end;
    }
    mark_runs(steps, kinds);
    mark_repeated(steps, kinds);
}

/// A letter as it is compared: a byte where words are plain.
trait Letter: Copy + Eq + std::hash::Hash + Into<char> {}

impl Letter for u8 {}
impl Letter for char {}

/// The kind of one word taken for another.
#[must_use]
pub fn kind_of_pair(said: &str, heard: &str) -> MistakeKind {
    let plain = |word: &str| !word.is_empty() && word.bytes().all(|byte| byte.is_ascii_lowercase());
    if said != heard && plain(said) && plain(heard) {
        return kind_of_letters(said.as_bytes(), heard.as_bytes());
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
    kind_of_letters(&said, &heard)
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

fn kind_of_letters<L: Letter>(said: &[L], heard: &[L]) -> MistakeKind {
    if are_forms_of_one(said, heard) {
        return MistakeKind::Inflection;
    }
    if are_near(said, heard) { MistakeKind::Near } else { MistakeKind::Different }
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
fn are_near<L: Letter>(a: &[L], b: &[L]) -> bool {
    let longer = a.len().max(b.len());
    let fewest = a.len().abs_diff(b.len());
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

/// A stretch of mistakes whose letters are the same on both sides is a matter of spacing.
fn mark_spacing(steps: &[NumberedStep], vocabulary: &Vocabulary, kinds: &mut [Option<MistakeKind>]) {
    if steps.iter().all(|step| step.edit == Edit::Substituted) {
        return;
    }
    let letters = |numbers: &mut dyn Iterator<Item = u32>| -> String {
        numbers.map(|number| vocabulary.word(number).as_str()).collect()
    };
    let said = || steps.iter().filter_map(|step| step.said);
    let heard = || steps.iter().filter_map(|step| step.heard);
    let length = |numbers: &mut dyn Iterator<Item = u32>| numbers.map(|n| vocabulary.word(n).len()).sum::<usize>();
    if length(&mut said()) != length(&mut heard()) {
        return;
    }
    let (said, heard) = (letters(&mut said()), letters(&mut heard()));
    if !said.is_empty() && said == heard {
        kinds.fill(Some(MistakeKind::Spacing));
    }
}

fn mark_runs(steps: &[NumberedStep], kinds: &mut [Option<MistakeKind>]) {
    for (alone, in_run) in
        [(MistakeKind::Dropped, MistakeKind::DroppedRun), (MistakeKind::Invented, MistakeKind::InventedRun)]
    {
        let mut start = 0;
        while start < steps.len() {
            let length = kinds[start..].iter().take_while(|kind| **kind == Some(alone)).count();
            if length >= RUN {
                kinds[start..start + length].fill(Some(in_run));
            }
            start += length.max(1);
        }
    }
}

/// Invented words in a stretch that is heard twice in a row. Which of the two the alignment calls invented is chance.
fn mark_repeated(steps: &[NumberedStep], kinds: &mut [Option<MistakeKind>]) {
    if steps.iter().all(|step| step.edit != Edit::Inserted) {
        return;
    }
    let heard: Vec<(usize, u32)> =
        steps.iter().enumerate().filter_map(|(at, step)| Some((at, step.heard?))).collect();
    let is_invented = |at: &usize| steps[heard[*at].0].edit == Edit::Inserted;
    for at in 1..heard.len() {
        for length in 1..=LONGEST_REPEATED.min(at).min(heard.len() - at) {
            let twice = (at..at + length).all(|i| heard[i].1 == heard[i - length].1);
            let both = at - length..at + length;
            if twice && both.clone().filter(is_invented).count() >= length {
                both.filter(is_invented).for_each(|i| kinds[heard[i].0] = Some(MistakeKind::Repeated));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accuracy::clip_score::Comparer;
    use crate::text::{Label, TextProfile};

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

    #[test]
    fn stretches_by_hand() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let kinds = |label: &str, heard: &str| -> Vec<MistakeKind> {
            let mut comparer = Comparer::default();
            comparer.compare(&profile, &Label::parse(label).unwrap(), heard);
            let vocabulary = &comparer.vocabulary;
            let pair = |said, heard| kind_of_pair(vocabulary.word(said), vocabulary.word(heard));
            let mut kinds = Vec::new();
            kinds_of(&comparer.steps, vocabulary, &mut kinds, pair);
            kinds.into_iter().flatten().collect()
        };
        assert_eq!(kinds("the helppoint is open", "the help point is open"), [MistakeKind::Spacing; 2]);
        assert_eq!(kinds("a b c d e", "a e"), [MistakeKind::DroppedRun; 3]);
        assert_eq!(kinds("a b c", "a c"), [MistakeKind::Dropped]);
        assert_eq!(kinds("go", "go one two three"), [MistakeKind::InventedRun; 3]);
        assert_eq!(kinds("thank you", "thank you thank you thank you"), [MistakeKind::Repeated; 4]);
        assert_eq!(kinds("stop now", "stop stop now"), [MistakeKind::Repeated]);
    }
}
