//! The tokens of plain text in one pass: most texts are ASCII, and of most profiles no step but two does anything to them.

use std::ops::Range;

use super::bytes::{WIDTH, are_small, are_small_of_16, before_space, before_space_of_16, with_small_letters};
use super::joined::{Joined, JoinedToken};
use super::steps::{OnPlain, STAYS, Signs};
use super::vocabulary::WordKey;
use super::{TextProfile, TextStep};

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
            match step.traits().on_plain {
                OnPlain::Nothing => {}
                OnPlain::Folds => rules.folds = true,
                OnPlain::Strips => rules.strips = true,
                OnPlain::More => return None,
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
        let plain = PlainRules::of(&self.steps).and_then(|rules| join_plain(rules, text, 0, tokens));
        plain.unwrap_or_else(|| self.join_by_steps(text, tokens))
    }

    /// The tokens of a text, told those of one that is likely to be much the same. Gives whether they are its words as written, and
    /// with how many tokens both begin alike, as far as that is seen.
    pub(crate) fn join_tokens_like(&self, like: &Joined, text: &str, tokens: &mut Joined) -> (bool, usize) {
        tokens.clear();
        if let Some(rules) = PlainRules::of(&self.steps) {
            let (alike, start) = if like.plain { tokens.begin_like(like, text) } else { (0, 0) };
            if let Some(as_written) = join_plain(rules, text, start, tokens) {
                return (as_written, alike);
            }
            tokens.clear();
        }
        (self.join_by_steps(text, tokens), 0)
    }

    fn join_by_steps(&self, text: &str, tokens: &mut Joined) -> bool {
        tokens.apart = true;
        tokens.plain = false;
        self.each_token(text, |token| tokens.push(token))
    }
}

/// What a byte of a text as written may be to a profile.
const WHITE: u8 = 1;
const CAPITAL: u8 = 2;
const SIGN: u8 = 4;
/// What no plain text holds.
const NOT_PLAIN: u8 = 8;

const KINDS: [u8; 256] = {
    let mut kinds = [0; 256];
    let mut byte = 0;
    while byte < 256 {
        let b = byte as u8;
        kinds[byte] = if !Signs::of_byte(b).are_plain() {
            NOT_PLAIN
        } else if b.is_ascii_whitespace() {
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

fn kinds_in(text: &[u8]) -> u8 {
    text.iter().fold(0, |kinds, byte| kinds | KINDS[usize::from(*byte)])
}

/// Appends the tokens of a text; gives whether they are its words as written. None, and nothing appended, where it is not plain.
fn join_plain(rules: PlainRules, text: &str, start: usize, tokens: &mut Joined) -> Option<bool> {
    u32::try_from(tokens.text.len() + text.len() + 1).ok()?;
    let before = (tokens.text.len(), tokens.tokens.len());
    let mut padded = std::mem::take(&mut tokens.padded);
    padded.clear();
    padded.extend_from_slice(text.as_bytes());
    padded.extend_from_slice(&[b' '; WIDTH]);
    let changed = Plain { rules, text, tokens, run: 0..0, changed: false }.read(&padded, start);
    tokens.padded = padded;
    if changed.is_none() {
        tokens.text.truncate(before.0);
        tokens.tokens.truncate(before.1);
        return None;
    }
    // The words of one text stand where they say; those of a second one behind it do not.
    tokens.apart |= before.1 > 0 && start == 0;
    tokens.bare &= rules.folds && rules.strips;
    changed.map(|changed| !changed)
}

/// A plain text while its words become tokens.
struct Plain<'t> {
    rules: PlainRules,
    text: &'t str,
    tokens: &'t mut Joined,
    /// Words one space apart that are tokens as they stand, and not in the joined text yet.
    run: Range<usize>,
    changed: bool,
}

impl Plain<'_> {
    /// Whether any word is another token, or several; none where the text is not plain.
    fn read(mut self, padded: &[u8], start: usize) -> Option<bool> {
        let mut at = start;
        while at < self.text.len() {
            let bytes = u64::from_le_bytes(*padded[at..].first_chunk()?);
            let length = before_space(bytes);
            match length {
                0 => at += 1,
                1..8 => {
                    let mask = (1 << (8 * length)) - 1;
                    if are_small(bytes & mask, mask) {
                        self.take(at..at + length, WordKey::packed(u128::from(bytes & mask), length));
                    } else if !self.take_marked(at..at + length, bytes & mask) {
                        self.look_into(at..at + length)?;
                    }
                    at += length + 1;
                }
                _ => at = self.read_long(padded, at)? + 1,
            }
        }
        self.end_run();
        Some(self.changed)
    }

    /// Reads a word of eight bytes or more; gives where it ends.
    fn read_long(&mut self, padded: &[u8], at: usize) -> Option<usize> {
        let bytes = u128::from_le_bytes(*padded[at..].first_chunk()?);
        let length = before_space_of_16(bytes);
        if length < WIDTH {
            let mask = (1 << (8 * length)) - 1;
            if are_small_of_16(bytes & mask, mask) {
                self.take(at..at + length, WordKey::packed(bytes & mask, length));
            } else {
                self.look_into(at..at + length)?;
            }
            return Some(at + length);
        }
        let end = at + padded[at..].iter().position(|byte| *byte == b' ')?;
        self.look_into(at..end)?;
        Some(end)
    }

    /// A word of less than eight bytes with capitals in it or a sign behind it, which are taken away; false, and nothing done, where
    /// more is to be looked at.
    fn take_marked(&mut self, word: Range<usize>, bytes: u64) -> bool {
        if !(self.rules.folds && self.rules.strips) {
            return false;
        }
        let last = 8 * (word.len() - 1);
        let sign = usize::from(KINDS[(bytes >> last) as usize] == SIGN);
        let mask = (1 << (8 * (word.len() - sign))) - 1;
        let small = with_small_letters(bytes & mask);
        if mask == 0 || !are_small(small, mask) {
            return false;
        }
        self.end_run();
        let token = word.start..word.end - sign;
        let key = WordKey::packed(u128::from(small), token.len());
        self.tokens.part();
        let start = self.tokens.text.len();
        self.tokens.text.push_str(&self.text[token]);
        self.tokens.text[start..].make_ascii_lowercase();
        self.push(word, key, self.tokens.text.len(), true);
        true
    }

    fn push(&mut self, word: Range<usize>, key: WordKey, end: usize, changed: bool) {
        // Was looked at before: the joined text is no longer than those it is made of.
        let written = [word.start as u32, word.end as u32];
        self.tokens.tokens.push(JoinedToken { key, end: end as u32, written, changed });
        self.changed |= changed;
    }

    /// A word that is a token as it stands.
    #[inline]
    fn take(&mut self, word: Range<usize>, key: WordKey) {
        if self.run.is_empty() || word.start != self.run.end + 1 {
            self.end_run();
            self.tokens.part();
            self.run = word.clone();
        } else {
            self.run.end = word.end;
        }
        let end = self.tokens.text.len() + self.run.len();
        self.push(word, key, end, false);
    }

    fn end_run(&mut self) {
        self.tokens.text.push_str(&self.text[self.run.clone()]);
        self.run = 0..0;
    }

    /// A stretch without a space that may hold anything else.
    fn look_into(&mut self, stretch: Range<usize>) -> Option<()> {
        let kinds = kinds_in(&self.text.as_bytes()[stretch.clone()]);
        if kinds & NOT_PLAIN != 0 {
            return None;
        }
        self.end_run();
        if kinds & WHITE == 0 {
            self.put(stretch, kinds);
            return Some(());
        }
        let mut start = stretch.start;
        for word in self.text[stretch].split(|c: char| c.is_ascii_whitespace()) {
            if !word.is_empty() {
                self.put(start..start + word.len(), kinds_in(word.as_bytes()));
            }
            start += word.len() + 1;
        }
        Some(())
    }

    /// The tokens of a word as written.
    fn put(&mut self, word: Range<usize>, kinds: u8) {
        let Self { rules, text, tokens, .. } = self;
        let changes = if rules.folds { CAPITAL } else { 0 } | if rules.strips { SIGN } else { 0 };
        let before = tokens.words();
        let mut changed = false;
        if kinds & changes == 0 {
            tokens.append(&text[word.clone()]);
        } else {
            join_word(*rules, text, word.clone(), tokens);
            tokens.apart |= tokens.words() != before + 1;
            changed = tokens.words() != before + 1 || tokens.word(before) != &text[word.clone()];
        }
        if let Some(token) = tokens.tokens.get_mut(before) {
            (token.written, token.changed) = ([word.start as u32, word.end as u32], changed);
        }
        self.changed |= changed;
    }
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
            if rules.folds {
                tokens.push_small(&text[start..at]);
            } else {
                tokens.append(&text[start..at]);
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
            text in "[a-cA-C0-2]{0,9}(( ?[a-z0-9{`:/]{1,18}){0,3}[a-cA-C0-2 .,:'\"\t\n\x0B\x01_%$+=>@#!&é\x7F-]{0,24}|[a-z ]{0,40})",
            steps in prop::sample::subsequence(vec![
                TextStep::Case, TextStep::SimpleCase, TextStep::Punctuation, TextStep::Markup, TextStep::Markers,
                TextStep::Unicode, TextStep::Words, TextStep::Diacritics, TextStep::Brackets,
                TextStep::Speakers,
            ], 0..10).prop_shuffle(),
        ) {
            let profile = TextProfile { name: "any".to_owned(), steps };
            let rules = PlainRules::of(&profile.steps).unwrap();
            let mut tokens = Joined::default();
            tokens.clear();
            let as_written = join_plain(rules, &text, 0, &mut tokens);
            prop_assert_eq!(as_written.is_some(), Signs::in_text(&text).are_plain());
            let Some(as_written) = as_written else {
                prop_assert_eq!((tokens.text(), tokens.words()), ("", 0), "nothing is left of it");
                return Ok(());
            };
            let found: Vec<&str> = (0..tokens.words()).map(|at| tokens.word(at)).collect();
            prop_assert_eq!(&found, &profile.tokens(&text));
            prop_assert_eq!(tokens.text(), found.join(" "));
            for (at, token) in found.iter().enumerate() {
                prop_assert_eq!(tokens.key(at), WordKey::of(token));
                for (there, other) in found.iter().enumerate() {
                    prop_assert_eq!(tokens.is_same(at, &tokens, there), token == other);
                }
            }
            let words: Vec<&str> = text.split_ascii_whitespace().collect();
            prop_assert_eq!(as_written, found == words);
            if let Some(written) = tokens.written() {
                prop_assert_eq!(written.iter().map(|word| word.written_in(&text)).collect::<Vec<_>>(), &words[..]);
                for (at, word) in written.iter().enumerate() {
                    prop_assert_eq!(profile.tokens(words[at]), [found[at]]);
                    prop_assert_eq!(word.changed, found[at] != words[at]);
                }
            }
        }
    }

    proptest! {
        #[test]
        fn a_text_that_begins_like_another_has_the_tokens_it_has_by_itself(
            said in "([a-cA-C0-2]{1,3}[.,']?[a-c0-2]?[.%é]? {1,2}){0,5}",
            kept in 0..24_usize,
            other in "( ?[a-cA-C0-2]{1,3}[.,'\\t]?[a-c0-2]?[.<é]? ?){0,2}",
            name in prop::sample::select(vec!["neutral", "verbatim", "en"]),
            as_written in any::<bool>(),
        ) {
            let profile = TextProfile::shipped(name).unwrap();
            let (mut like, mut alone, mut tokens) = (Joined::default(), Joined::default(), Joined::default());
            like.clear();
            alone.clear();
            profile.join_tokens(&said, &mut like);
            let start = if as_written { &said } else { like.text() };
            let heard: String = start.chars().take(kept).chain(other.chars()).collect();
            let is_as_written = profile.join_tokens(&heard, &mut alone);
            let (found, alike) = profile.join_tokens_like(&like, &heard, &mut tokens);
            prop_assert_eq!(found, is_as_written, "{:?} {:?}", said, heard);
            prop_assert_eq!(tokens.text(), alone.text());
            prop_assert_eq!(format!("{:?}", tokens.tokens), format!("{:?}", alone.tokens));
            prop_assert_eq!(tokens.written().is_some(), alone.written().is_some());
            prop_assert!((0..alike).all(|at| tokens.is_same(at, &like, at)));
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
