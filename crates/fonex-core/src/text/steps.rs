//! The single steps a text profile is made of. Each takes a text and gives a text, and knows nothing of the others.

use std::borrow::Cow;
use std::collections::BTreeSet;

use icu_casemap::CaseMapper;
use icu_normalizer::{ComposingNormalizerBorrowed, DecomposingNormalizerBorrowed};
use icu_properties::CodePointMapData;
use icu_properties::props::{GeneralCategory, GeneralCategoryGroup};
use serde::{Deserialize, Serialize};

use super::numbers::NumberLanguage;
use super::replace::{Pattern, WordMap};
use super::segments::part_words;

/// One named step of a text profile.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TextStep {
    /// Removes markup tags `<b>`, `<v Name>`, `<00:01.000>`, `{\an8}` and resolves `&amp;` and its like.
    Markup,
    /// Removes the marker tokens that models leave in their output, such as `<|end|>`.
    Markers,
    /// Unicode normalisation form KC (UAX 15), without invisible format characters.
    Unicode,
    /// Full Unicode case folding (Unicode 3.13, C + F mappings).
    Case,
    /// Drops punctuation; keeps apostrophes inside words, decimal points and commas inside numbers, and signs that
    /// are spoken (`%`, `&`, `@`, `#`, currency, mathematical signs). A hyphen parts words.
    Punctuation,
    /// Removes events in square brackets, such as `[laughter]`.
    Brackets,
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

    pub(super) fn in_text(text: &str) -> Self {
        Self(text.bytes().fold(0, |signs, byte| signs | Self::OF[usize::from(byte)]))
    }

    /// What a text may hold of which nothing is known.
    pub(super) const ANY: Self = Self(u8::MAX);

    const fn has(self, signs: u8) -> bool {
        self.0 & signs != 0
    }
}

impl TextStep {
    /// Whether a project's own words can get in by this step, or entities and compatibility forms be resolved.
    pub(super) const fn may_put_in_any_sign(&self) -> bool {
        matches!(self, Self::Replace(_) | Self::Pattern(_) | Self::Numbers(_) | Self::Markup | Self::Unicode)
    }

    /// Whether the step can change a text that may hold these signs.
    pub(super) const fn may_change(&self, signs: Signs) -> bool {
        match self {
            Self::Unicode | Self::Words | Self::Diacritics => signs.has(Signs::BEYOND_ASCII),
            Self::Case => signs.has(Signs::UPPER | Signs::BEYOND_ASCII),
            Self::Markers | Self::Markup => signs.has(Signs::TAG),
            Self::Punctuation => signs.has(Signs::SIGN | Signs::BEYOND_ASCII),
            Self::Brackets => signs.has(Signs::BRACKET),
            _ => true,
        }
    }

    /// The steps of the neutral profile, in order.
    pub const NEUTRAL: [Self; 6] =
        [Self::Markers, Self::Markup, Self::Unicode, Self::Case, Self::Punctuation, Self::Words];

    /// Its name, as written in a profile.
    #[must_use]
    pub const fn as_str(&self) -> &'static str {
        match self {
            Self::Markup => "markup",
            Self::Markers => "markers",
            Self::Unicode => "unicode",
            Self::Case => "case",
            Self::Punctuation => "punctuation",
            Self::Brackets => "brackets",
            Self::Words => "words",
            Self::Diacritics => "diacritics",
            Self::Drop(_) => "drop",
            Self::Replace(_) => "replace",
            Self::Pattern(_) => "pattern",
            Self::Numbers(_) => "numbers",
            Self::Profile(_) => "profile",
        }
    }

    /// Applies the step to a text of its own, where that can be done in place; else gives false and leaves it.
    pub(super) fn apply_in_place(&self, text: &mut String) -> bool {
        match self {
            Self::Case if text.is_ascii() => text.make_ascii_lowercase(),
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
            Self::Brackets => remove_spans(text, "[", |rest| find_near(rest, "]").map(|end| end + 1)),
            Self::Words => part_words(text),
            Self::Diacritics => fold_diacritics(text),
            Self::Drop(words) => {
                let kept = text.split_whitespace().filter(|word| !words.contains(*word));
                Cow::Owned(kept.collect::<Vec<_>>().join(" "))
            }
            Self::Replace(words) => Cow::Owned(words.apply(text)),
            Self::Pattern(pattern) => Cow::Owned(pattern.apply(text)),
            Self::Numbers(language) => Cow::Owned(language.apply(text)),
            Self::Markup => strip_markup(text),
            Self::Markers => strip_markers(text),
            Self::Unicode => unicode_form(text),
            Self::Case => fold_case(text),
            Self::Punctuation => strip_punctuation(text),
        }
    }
}

fn strip_markers(text: &str) -> Cow<'_, str> {
    remove_spans(text, "<|", |rest| find_near(&rest[2..], "|>").map(|end| end + 4))
}

/// A tag opens with a letter, a slash or a digit after its bracket, so "a < b" is left alone.
fn strip_markup(text: &str) -> Cow<'_, str> {
    let without_tags = remove_spans(text, "<", |rest| {
        let opens = rest[1..].starts_with(|c: char| c.is_ascii_alphanumeric() || c == '/');
        let end = find_near(rest, ">")?;
        (opens && !rest[1..end].contains('<')).then_some(end + 1)
    });
    let override_end = |rest: &str| find_near(rest, "}").map(|end| end + 1);
    let without_overrides = match without_tags {
        Cow::Borrowed(text) => remove_spans(text, "{\\", override_end),
        Cow::Owned(text) => Cow::Owned(remove_spans(&text, "{\\", override_end).into_owned()),
    };
    if without_overrides.contains('&') { Cow::Owned(resolve_entities(&without_overrides)) } else { without_overrides }
}

/// The character references WebVTT defines, and the quotes that other caption writers add.
fn resolve_entities(text: &str) -> String {
    const ENTITIES: [(&str, &str); 7] = [
        ("&lt;", "<"),
        ("&gt;", ">"),
        ("&nbsp;", " "),
        ("&lrm;", ""),
        ("&rlm;", ""),
        ("&quot;", "\""),
        ("&amp;", "&"),
    ];
    ENTITIES.iter().fold(text.to_owned(), |text, (name, sign)| text.replace(name, sign))
}

/// Replaces each span that starts with `opening` by a space; `length` gives the span's bytes, or none to leave it.
fn remove_spans<'t>(text: &'t str, opening: &str, length: impl Fn(&str) -> Option<usize>) -> Cow<'t, str> {
    if !text.contains(opening) {
        return Cow::Borrowed(text);
    }
    let mut kept = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(opening) {
        kept.push_str(&rest[..at]);
        rest = &rest[at..];
        match length(rest) {
            Some(bytes) => {
                kept.push(' ');
                rest = &rest[bytes..];
            }
            None => {
                kept.push_str(opening);
                rest = &rest[opening.len()..];
            }
        }
    }
    kept.push_str(rest);
    Cow::Owned(kept)
}

/// Finds `closing` within the longest tag anyone writes, so that many unclosed openings stay cheap.
fn find_near(text: &str, closing: &str) -> Option<usize> {
    const LONGEST_TAG: usize = 512;
    let mut end = text.len().min(LONGEST_TAG);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    text[..end].find(closing)
}

fn unicode_form(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return Cow::Borrowed(text);
    }
    let form = ComposingNormalizerBorrowed::new_nfkc().normalize(text);
    if form.chars().any(is_invisible) {
        Cow::Owned(form.chars().filter(|c| !is_invisible(*c)).collect())
    } else {
        form
    }
}

/// Format characters that change no word: soft hyphen, zero-width joiners and spaces, direction marks, byte-order mark.
fn is_invisible(c: char) -> bool {
    matches!(c, '\u{AD}' | '\u{200B}'..='\u{200F}' | '\u{202A}'..='\u{202E}' | '\u{2060}'..='\u{2069}' | '\u{FEFF}')
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
    if text.chars().all(|c| c == ' ' || is_word_sign(c)) {
        return Cow::Borrowed(text);
    }
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

/// The same rules for a text in which every character is one byte.
fn strip_ascii_punctuation(text: String) -> String {
    const STAYS: [bool; 256] = {
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
        || GeneralCategoryGroup::Mark.contains(category)
        || matches!(category, GeneralCategory::CurrencySymbol | GeneralCategory::MathSymbol)
        || matches!(c, '§' | '°' | '‰')
}
