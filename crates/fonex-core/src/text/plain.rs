//! The tokens of plain text in one pass: most texts are ASCII, and of most profiles no step but two does anything to them.

use std::ops::Range;

use super::steps::{STAYS, Signs};
use super::{TextProfile, TextStep};

/// The tokens of a text joined by single spaces.
#[derive(Debug, Clone, Default)]
pub(crate) struct Joined {
    text: String,
    /// Where each token ends.
    ends: Vec<usize>,
    /// The words as written, one a token, while that is so.
    written: Vec<Written>,
    apart: bool,
    /// Whether every sign and capital around a word changes it.
    bare: bool,
}

/// A word as it is written.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Written {
    start: usize,
    end: usize,
    /// Whether its token is another text.
    pub(crate) changed: bool,
}

impl Written {
    /// The word in the text that was given.
    pub(crate) fn of<'t>(&self, text: &'t str) -> &'t str {
        &text[self.start..self.end]
    }
}

impl Joined {
    pub(crate) fn clear(&mut self) {
        self.text.clear();
        self.ends.clear();
        self.written.clear();
        self.apart = false;
        self.bare = true;
    }

    pub(crate) fn push(&mut self, token: &str) {
        if !self.text.is_empty() {
            self.text.push(' ');
        }
        self.text.push_str(token);
        self.ends.push(self.text.len());
    }

    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    pub(crate) const fn words(&self) -> usize {
        self.ends.len()
    }

    pub(crate) fn word(&self, at: usize) -> &str {
        &self.text[self.start(at)..self.ends[at]]
    }

    fn start(&self, word: usize) -> usize {
        word.checked_sub(1).map_or(0, |before| self.ends[before] + 1)
    }

    /// The words from one to before another.
    pub(crate) fn stretch(&self, words: Range<usize>) -> &str {
        if words.is_empty() { "" } else { &self.text[self.start(words.start)..self.ends[words.end - 1]] }
    }

    /// The words as written that have signs or capitals around them, of a text whose profile takes these away; none where that is
    /// not known.
    pub(crate) fn marked(&self) -> Option<impl Iterator<Item = &Written>> {
        Some(self.written().filter(|_| self.bare)?.iter().filter(|word| word.changed))
    }

    /// The words as written, one a token; none where some word is no token, or several, or where that is not known.
    pub(crate) fn written(&self) -> Option<&[Written]> {
        (!self.apart && self.written.len() == self.ends.len()).then_some(&self.written)
    }
}

/// What the steps of a profile come to on plain text: ASCII without a sign that may begin markup or an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct PlainRules {
    /// Capitals become small letters.
    folds: bool,
    /// Punctuation is dropped.
    strips: bool,
}

impl PlainRules {
    /// None where some step does more.
    fn of(steps: &[TextStep]) -> Option<Self> {
        let mut rules = Self { folds: false, strips: false };
        for step in steps {
            match step {
                TextStep::Case | TextStep::SimpleCase => rules.folds = true,
                TextStep::Punctuation => rules.strips = true,
                TextStep::Markup | TextStep::Markers | TextStep::Unicode | TextStep::Brackets => {}
                TextStep::Words | TextStep::Diacritics => {}
                _ => return None,
            }
        }
        Some(rules)
    }

    /// Whether the byte at a place is part of a token. A sign before it is none by then, and so no letter and no digit either.
    fn stays(self, text: &[u8], at: usize) -> bool {
        let byte = text[at];
        if !self.strips {
            return !byte.is_ascii_whitespace();
        }
        let around = |fits: fn(&u8) -> bool| at > 0 && fits(&text[at - 1]) && text.get(at + 1).is_some_and(fits);
        STAYS[usize::from(byte)]
            || match byte {
                b'\'' => around(u8::is_ascii_alphanumeric),
                b'.' | b',' | b':' => around(u8::is_ascii_digit),
                _ => false,
            }
    }
}

impl TextProfile {
    /// Appends the tokens of a text; gives whether they are its words as written.
    pub(crate) fn join_tokens(&self, text: &str, tokens: &mut Joined) -> bool {
        match PlainRules::of(&self.steps).filter(|_| Signs::in_text(text).are_plain()) {
            Some(rules) => join_plain(rules, text, tokens),
            None => {
                tokens.apart = true;
                self.each_token(text, |token| tokens.push(token))
            }
        }
    }
}

/// What a byte of a text as written may be to a profile.
const WHITE: u8 = 1;
const CAPITAL: u8 = 2;
const SIGN: u8 = 4;

const KINDS: [u8; 256] = {
    let mut kinds = [0; 256];
    let mut byte = 0;
    while byte < 256 {
        let b = byte as u8;
        kinds[byte] = if b.is_ascii_whitespace() {
            WHITE
        } else if b.is_ascii_uppercase() {
            CAPITAL
        } else if STAYS[byte] {
            0
        } else {
            SIGN
        };
        byte += 1;
    }
    kinds
};

fn join_plain(rules: PlainRules, text: &str, tokens: &mut Joined) -> bool {
    let bytes = text.as_bytes();
    // The words of one text stand where they say; those of a second one behind it do not.
    tokens.apart |= tokens.words() > 0;
    tokens.bare &= rules.folds && rules.strips;
    let changes = if rules.folds { CAPITAL } else { 0 } | if rules.strips { SIGN } else { 0 };
    let mut as_written = true;
    let mut at = 0;
    while at < bytes.len() {
        if KINDS[usize::from(bytes[at])] == WHITE {
            at += 1;
            continue;
        }
        let start = at;
        let mut kinds = 0;
        while at < bytes.len() {
            let kind = KINDS[usize::from(bytes[at])];
            if kind == WHITE {
                break;
            }
            kinds |= kind;
            at += 1;
        }
        let mut changed = false;
        if kinds & changes == 0 {
            tokens.push(&text[start..at]);
        } else {
            let before = tokens.words();
            join_word(rules, text, start..at, tokens);
            tokens.apart |= tokens.words() != before + 1;
            changed = tokens.words() != before + 1 || tokens.word(before) != &text[start..at];
        }
        tokens.written.push(Written { start, end: at, changed });
        as_written &= !changed;
    }
    as_written
}

/// Appends the tokens of one word as written.
fn join_word(rules: PlainRules, text: &str, word: Range<usize>, tokens: &mut Joined) {
    let bytes = text.as_bytes();
    let mut at = word.start;
    while at < word.end {
        let start = at;
        while at < word.end && rules.stays(bytes, at) {
            at += 1;
        }
        if at > start {
            tokens.push(&text[start..at]);
            if rules.folds {
                let place = tokens.start(tokens.words() - 1);
                tokens.text[place..].make_ascii_lowercase();
            }
        }
        at += 1;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// The slow twin applies every step in its turn.
        #[test]
        fn plain_text_has_the_tokens_that_the_steps_leave(
            text in "[a-cA-C0-2 .,:'\"\t\n\x0B\x01_%$+=>@#!-]{0,24}",
            steps in prop::sample::subsequence(vec![
                TextStep::Case, TextStep::SimpleCase, TextStep::Punctuation, TextStep::Markup, TextStep::Markers,
                TextStep::Unicode, TextStep::Words, TextStep::Diacritics, TextStep::Brackets,
            ], 0..9).prop_shuffle(),
        ) {
            let profile = TextProfile { name: "any".to_owned(), steps };
            let rules = PlainRules::of(&profile.steps).unwrap();
            prop_assert!(Signs::in_text(&text).are_plain());
            let mut tokens = Joined::default();
            let as_written = join_plain(rules, &text, &mut tokens);
            let found: Vec<&str> = (0..tokens.words()).map(|at| tokens.word(at)).collect();
            prop_assert_eq!(&found, &profile.tokens(&text));
            prop_assert_eq!(tokens.text(), found.join(" "));
            let words: Vec<&str> = text.split_ascii_whitespace().collect();
            prop_assert_eq!(as_written, found == words);
            if let Some(written) = tokens.written() {
                prop_assert_eq!(written.iter().map(|word| word.of(&text)).collect::<Vec<_>>(), &words[..]);
                for (at, word) in written.iter().enumerate() {
                    prop_assert_eq!(profile.tokens(words[at]), [found[at]]);
                    prop_assert_eq!(word.changed, found[at] != words[at]);
                }
            }
        }
    }

    #[test]
    fn profiles_that_do_more_go_the_long_way() {
        for (name, plain) in [("neutral", true), ("verbatim", true), ("en", false), ("tr", false)] {
            assert_eq!(PlainRules::of(&TextProfile::shipped(name).unwrap().steps).is_some(), plain, "{name}");
        }
        assert!(!Signs::in_text("a <b> c").are_plain() && !Signs::in_text("caf\u{e9}").are_plain());
        let mut tokens = Joined::default();
        TextProfile::shipped("neutral").unwrap().join_tokens("[hm] A<b>B</b> \u{c9}t\u{e9}", &mut tokens);
        assert_eq!(tokens.text(), "hm ab \u{e9}t\u{e9}");
    }
}
