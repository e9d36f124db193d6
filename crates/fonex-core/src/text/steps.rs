//! The single steps a text profile is made of. Each takes a text and gives a text, and knows nothing of the others.

use std::borrow::Cow;
use std::collections::BTreeSet;

use icu_casemap::CaseMapper;
use icu_normalizer::{ComposingNormalizerBorrowed, DecomposingNormalizerBorrowed};
use icu_properties::props::{Emoji, GeneralCategory, GeneralCategoryGroup};
use icu_properties::{CodePointMapData, CodePointSetData};
use serde::{Deserialize, Serialize};

use super::forms::BOUNDARY;
use super::markup::{find_near, remove_spans, strip_markers, strip_markup};
use super::numbers::NumberLanguage;
use super::replace::{Pattern, WordMap};
use super::segments::{graphemes, part_words};

/// One named step of a text profile.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TextStep {
    /// Removes markup tags `<b>`, `<v Name>`, `<00:01.000>`, `{\an8}` and resolves `&amp;` and its like.
    Markup,
    /// Removes the marker tokens that models leave in their output, such as `<|end|>`.
    Markers,
    /// Unicode normalisation form KC (UAX 15), without invisible format characters, and the digits of every script as 0 to 9.
    Unicode,
    /// Full Unicode case folding (Unicode 3.13, C + F mappings).
    Case,
    /// Small letters in the place of capitals, and nothing else (Unicode 3.13, C + S mappings): `ß` stays.
    SimpleCase,
    /// Case folding of Turkish and Azerbaijani, with the T mappings of Unicode 3.13: `I` becomes `ı`, `İ` becomes `i`.
    TurkicCase,
    /// Drops punctuation; keeps apostrophes inside words, decimal points and commas inside numbers, and signs that
    /// are spoken (`%`, `&`, `@`, `#`, currency, mathematical signs), and emoji, each a word. A hyphen parts words.
    Punctuation,
    /// Removes events in square brackets, such as `[laughter]`.
    Brackets,
    /// Removes names of speakers in square brackets, such as `[Operator Two]` or `[SPEAKER_1]:`: they begin with a capital letter, so that the
    /// step stands before `case`. Other events stay.
    Speakers,
    /// Parts the words of scripts that write no spaces, such as Chinese, Japanese and Thai.
    Words,
    /// Takes marks off letters: `café` becomes `cafe`.
    Diacritics,
    /// Drops these words.
    Drop(BTreeSet<String>),
    /// Puts words in the place of others.
    Replace(WordMap),
    /// Replaces the matches of a regular expression.
    Pattern(Pattern),
    /// Makes written and spoken forms one, such as `7:30 p.m.`, `5 km`, `½`, `World War II`, `it's`; before the signs are taken
    /// away, and with the numbers step behind.
    Forms(NumberLanguage),
    /// Brings numbers in digits and in words into one form.
    Numbers(NumberLanguage),
    /// Runs the steps of a shipped profile.
    Profile(String),
}

/// Which kinds of characters a text holds, so that steps with nothing to do are passed over.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Signs(u8);

impl Signs {
    const BEYOND_ASCII: u8 = 1;
    const UPPER: u8 = 2;
    const SIGN: u8 = 4;
    const TAG: u8 = 8;
    const BRACKET: u8 = 16;

    const OF: [u8; 256] = {
        let mut of = [Self::BEYOND_ASCII; 256];
        let mut byte = 0;
        while byte < 128 {
            let b = byte as u8;
            of[byte] = match b {
                b'A'..=b'Z' => Self::UPPER,
                b'<' | b'{' | b'&' => Self::TAG | Self::SIGN,
                b'[' => Self::BRACKET | Self::SIGN,
                b' ' | b'a'..=b'z' | b'0'..=b'9' => 0,
                _ => Self::SIGN,
            };
            byte += 1;
        }
        of
    };

    pub(super) const fn of_byte(byte: u8) -> Self {
        Self(Self::OF[byte as usize])
    }

    pub(super) fn in_text(text: &str) -> Self {
        Self(text.bytes().fold(0, |signs, byte| signs | Self::OF[usize::from(byte)]))
    }

    /// Whether no sign may begin markup or an event, and all are ASCII.
    pub(super) const fn are_plain(self) -> bool {
        !self.has(Self::BEYOND_ASCII | Self::TAG | Self::BRACKET)
    }

    /// What a text may hold of which nothing is known.
    pub(super) const ANY: Self = Self(u8::MAX);

    const fn has(self, signs: u8) -> bool {
        self.0 & signs != 0
    }
}

/// What is known of a step beside what it does, so that it is passed over where it would do nothing.
pub(super) struct StepTraits {
    name: &'static str,
    /// The signs of which a text must hold one for the step to change it; any where it may change every text.
    changes: Signs,
    /// Whether a project's own words can get in by it, or entities and compatibility forms be resolved.
    pub(super) brings_any: bool,
    /// What it does to plain text.
    pub(super) on_plain: OnPlain,
}

/// What a step does to ASCII text in which no sign may begin markup or an event.
pub(super) enum OnPlain {
    Nothing,
    /// Makes capitals small.
    Folds,
    /// Drops punctuation.
    Strips,
    /// More than can be done byte by byte.
    More,
}

impl TextStep {
    /// What is known of it beside what it does.
    pub(super) const fn traits(&self) -> StepTraits {
        const ANY: u8 = u8::MAX;
        let (name, changes, brings_any, on_plain) = match self {
            Self::Markup => ("markup", Signs::TAG, true, OnPlain::Nothing),
            Self::Markers => ("markers", Signs::TAG, false, OnPlain::Nothing),
            Self::Unicode => ("unicode", Signs::BEYOND_ASCII, true, OnPlain::Nothing),
            Self::Case => ("case", Signs::UPPER | Signs::BEYOND_ASCII, false, OnPlain::Folds),
            Self::SimpleCase => ("simple-case", Signs::UPPER | Signs::BEYOND_ASCII, false, OnPlain::Folds),
            Self::TurkicCase => ("turkic-case", Signs::UPPER | Signs::BEYOND_ASCII, false, OnPlain::More),
            Self::Punctuation => ("punctuation", Signs::SIGN | Signs::BEYOND_ASCII, false, OnPlain::Strips),
            Self::Brackets => ("brackets", Signs::BRACKET, false, OnPlain::Nothing),
            Self::Speakers => ("speakers", Signs::BRACKET, false, OnPlain::Nothing),
            Self::Words => ("words", Signs::BEYOND_ASCII, false, OnPlain::Nothing),
            Self::Diacritics => ("diacritics", Signs::BEYOND_ASCII, false, OnPlain::Nothing),
            Self::Drop(_) => ("drop", ANY, false, OnPlain::More),
            Self::Replace(_) => ("replace", ANY, true, OnPlain::More),
            Self::Pattern(_) => ("pattern", ANY, true, OnPlain::More),
            Self::Forms(_) => ("forms", ANY, true, OnPlain::More),
            Self::Numbers(_) => ("numbers", ANY, true, OnPlain::More),
            Self::Profile(_) => ("profile", ANY, false, OnPlain::More),
        };
        StepTraits { name, changes: Signs(changes), brings_any, on_plain }
    }

    /// Whether the step can change a text that may hold these signs.
    pub(super) const fn may_change(&self, signs: Signs) -> bool {
        // A step that needs no sign also changes a text without any.
        let changes = self.traits().changes;
        changes.0 == Signs::ANY.0 || signs.has(changes.0)
    }

    /// The steps of the neutral profile, in order.
    pub const NEUTRAL: [Self; 6] =
        [Self::Markers, Self::Markup, Self::Unicode, Self::Case, Self::Punctuation, Self::Words];

    /// Its name, as written in a profile.
    #[must_use]
    pub const fn as_str(&self) -> &'static str {
        self.traits().name
    }

    /// Applies the step to a text of its own, where that can be done in place; else gives false and leaves it.
    pub(super) fn apply_in_place(&self, text: &mut String) -> bool {
        match self {
            Self::Case | Self::SimpleCase if text.is_ascii() => text.make_ascii_lowercase(),
            Self::Punctuation if text.is_ascii() => *text = strip_ascii_punctuation(std::mem::take(text)),
            _ => return false,
        }
        true
    }

    /// Applies the step. Cost is linear in the text. A profile inside a profile is resolved before and changes nothing
    /// here.
    #[must_use]
    pub fn apply<'t>(&self, text: &'t str) -> Cow<'t, str> {
        match self {
            Self::Profile(_) => Cow::Borrowed(text),
            Self::Brackets => remove_spans(text, "[", |rest| find_near(rest, "]").map(|end| (end + 1, true))),
            Self::Speakers => remove_spans(text, "[", speaker),
            Self::Words => part_words(text),
            Self::Diacritics => fold_diacritics(text),
            Self::Drop(words) => {
                let kept = text.split_whitespace().filter(|word| !words.contains(*word));
                Cow::Owned(kept.collect::<Vec<_>>().join(" "))
            }
            Self::Replace(words) => Cow::Owned(words.apply(text)),
            Self::Pattern(pattern) => Cow::Owned(pattern.apply(text)),
            Self::Forms(language) => Cow::Owned(language.forms(text)),
            Self::Numbers(language) => Cow::Owned(language.apply(text)),
            Self::Markup => strip_markup(text),
            Self::Markers => strip_markers(text),
            Self::Unicode => unicode_form(text),
            Self::Case => fold_case(text),
            Self::SimpleCase => Cow::Owned(text.chars().map(|c| CaseMapper::new().simple_fold(c)).collect()),
            Self::TurkicCase => Cow::Owned(CaseMapper::new().fold_turkic_string(text).into_owned()),
            Self::Punctuation => strip_punctuation(text),
        }
    }
}

/// The length of a name in brackets with its colon; it leaves a space.
fn speaker(rest: &str) -> Option<(usize, bool)> {
    const LONGEST_NAME: usize = 40;
    let name = &rest[1..find_near(rest, "]")?];
    let is_name = name.starts_with(char::is_uppercase)
        && name.chars().count() <= LONGEST_NAME
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, ' ' | '.' | '-' | '_' | '\'' | '\u{2019}'));
    let end = name.len() + 2;
    is_name.then(|| (end + usize::from(rest[end..].starts_with(':')), true))
}

fn unicode_form(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return Cow::Borrowed(text);
    }
    let form = ComposingNormalizerBorrowed::new_nfkc().normalize(text);
    if form.chars().any(|c| is_invisible(c) || !c.is_ascii() && western_digit(c) != c) {
        let mut kept = String::with_capacity(form.len());
        let mut chars = form.chars().peekable();
        while let Some(c) = chars.next() {
            let joins = c == JOINER && chars.peek().is_some_and(|next| is_emoji(*next));
            if joins || !is_invisible(c) {
                kept.push(western_digit(c));
            }
        }
        Cow::Owned(kept)
    } else {
        form
    }
}

/// Joins emoji of several people into one.
const JOINER: char = '\u{200D}';

/// Format characters that change no word: soft hyphen, zero-width joiners and spaces, direction marks, byte-order mark.
fn is_invisible(c: char) -> bool {
    matches!(c, '\u{AD}' | '\u{200B}'..='\u{200F}' | '\u{202A}'..='\u{202E}' | '\u{2060}'..='\u{2069}' | '\u{FEFF}')
}

/// The digit 0 to 9 of a decimal digit of another script; other characters as they are.
fn western_digit(c: char) -> char {
    // Where the tens of the scripts begin (UnicodeData, category Nd).
    const ZEROS: [u32; 17] = [
        0x660, 0x6F0, 0x966, 0x9E6, 0xA66, 0xAE6, 0xB66, 0xBE6, 0xC66, 0xCE6, 0xD66, 0xE50, 0xED0, 0xF20, 0x1040,
        0x17E0, 0x1810,
    ];
    let digit = ZEROS.iter().find_map(|zero| u32::from(c).checked_sub(*zero).filter(|digit| *digit < 10));
    digit.and_then(|digit| char::from_digit(digit, 10)).unwrap_or(c)
}

/// Pictures, flags and tones of skin; not the signs that are texts of old, such as `©` and `™`.
fn is_emoji(c: char) -> bool {
    const FIRST: char = '\u{2300}';
    c >= FIRST && CodePointSetData::new::<Emoji>().contains(c)
}

/// Puts each emoji apart, with what belongs to it, without the mark that asks for its picture.
fn part_emoji(text: &str) -> Cow<'_, str> {
    const PICTURE: char = '\u{FE0F}';
    if !text.chars().any(is_emoji) {
        return Cow::Borrowed(text);
    }
    let mut parted = String::with_capacity(text.len() + 8);
    for cluster in graphemes(text) {
        if cluster.starts_with(is_emoji) {
            parted.push(' ');
            parted.extend(cluster.chars().filter(|c| *c != PICTURE));
            parted.push(' ');
        } else {
            parted.push_str(cluster);
        }
    }
    Cow::Owned(parted)
}

/// Letters without the marks on them (canonical decomposition, UAX 15, less the nonspacing marks).
fn fold_diacritics(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return Cow::Borrowed(text);
    }
    let parted = DecomposingNormalizerBorrowed::new_nfd().normalize(text);
    let categories = CodePointMapData::<GeneralCategory>::new();
    Cow::Owned(parted.chars().filter(|c| categories.get(*c) != GeneralCategory::NonspacingMark).collect())
}

fn fold_case(text: &str) -> Cow<'_, str> {
    if !text.is_ascii() {
        return CaseMapper::new().fold_string(text);
    }
    if text.bytes().any(|b| b.is_ascii_uppercase()) {
        Cow::Owned(text.to_ascii_lowercase())
    } else {
        Cow::Borrowed(text)
    }
}

fn strip_punctuation(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return Cow::Owned(strip_ascii_punctuation(text.to_owned()));
    }
    let parted = part_emoji(text);
    if parted.chars().all(|c| c == ' ' || is_word_sign(c)) {
        return parted;
    }
    let text = parted;
    let mut kept = String::with_capacity(text.len());
    let mut before = ' ';
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        let after = chars.peek().copied().unwrap_or(' ');
        let inside_word = before.is_alphanumeric() && after.is_alphanumeric();
        let inside_number = before.is_numeric() && after.is_numeric();
        match c {
            _ if is_word_sign(c) => kept.push(c),
            '\'' | '\u{2019}' | '\u{02BC}' if inside_word => kept.push('\''),
            '.' | ',' | ':' if inside_number => kept.push(c),
            _ => kept.push(' '),
        }
        before = c;
    }
    Cow::Owned(kept)
}

/// The bytes of ASCII text that stay wherever they stand.
pub(super) const STAYS: [bool; 256] = {
    let mut stays = [false; 256];
    let mut byte = 0;
    while byte < 128 {
        let b = byte as u8;
        stays[byte] = b.is_ascii_alphanumeric()
            || matches!(b, b' ' | b'%' | b'&' | b'@' | b'#' | b'$' | b'+' | b'=' | b'<' | b'>');
        byte += 1;
    }
    stays
};

/// The same rules for a text in which every character is one byte.
fn strip_ascii_punctuation(text: String) -> String {
    let mut bytes = text.into_bytes();
    for at in 0..bytes.len() {
        if STAYS[usize::from(bytes[at])] {
            continue;
        }
        // A sign before this one is a space by now, which is no letter and no digit either.
        let around = |fits: fn(&u8) -> bool| at > 0 && fits(&bytes[at - 1]) && bytes.get(at + 1).is_some_and(fits);
        let stays = match bytes[at] {
            b'\'' => around(u8::is_ascii_alphanumeric),
            b'.' | b',' | b':' => around(u8::is_ascii_digit),
            _ => false,
        };
        if !stays {
            bytes[at] = b' ';
        }
    }
    String::from_utf8(bytes).expect("a text in ASCII stays one")
}

/// Letters, marks, digits, and the signs that stand for spoken words.
fn is_word_sign(c: char) -> bool {
    if c.is_ascii() {
        return c.is_ascii_alphanumeric() || matches!(c, '%' | '&' | '@' | '#' | '$' | '+' | '=' | '<' | '>');
    }
    let category = CodePointMapData::<GeneralCategory>::new().get(c);
    c.is_alphanumeric()
        || BOUNDARY.starts_with(c)
        || GeneralCategoryGroup::Mark.contains(category)
        || matches!(category, GeneralCategory::CurrencySymbol | GeneralCategory::MathSymbol)
        || matches!(c, '§' | '°' | '‰' | JOINER)
        || is_emoji(c)
}
