//! The tokens of a text one behind the other, as a reader of characters wants them, each with the word it comes from.

use std::ops::Range;

use super::bytes::alike_at_start;
use super::vocabulary::WordKey;

/// The tokens of a text joined by single spaces.
#[derive(Debug, Clone, Default)]
pub(crate) struct Joined {
    pub(super) text: String,
    pub(super) tokens: Vec<JoinedToken>,
    /// Whether some word as written is no token, or several, or that is not known.
    pub(super) apart: bool,
    /// Whether every sign and capital around a word changes it.
    pub(super) bare: bool,
    /// Whether all of it came from plain text.
    pub(super) plain: bool,
    /// The text being read with room behind it.
    pub(super) padded: Vec<u8>,
}

/// A token, and the word as written that it comes from, where each has its own.
#[derive(Debug, Clone, Copy)]
pub(crate) struct JoinedToken {
    pub(super) key: WordKey,
    /// Where it ends in the joined text.
    pub(super) end: u32,
    pub(super) written: [u32; 2],
    /// Whether the word as written is another text.
    pub(crate) changed: bool,
}

impl JoinedToken {
    /// The word as it is written in the text that was given.
    pub(crate) fn written_in<'t>(&self, text: &'t str) -> &'t str {
        &text[self.written[0] as usize..self.written[1] as usize]
    }
}

impl Joined {
    pub(crate) fn clear(&mut self) {
        self.text.clear();
        self.tokens.clear();
        self.apart = false;
        self.bare = true;
        self.plain = true;
    }

    /// Appends a token of which it is not known what it was written as.
    pub(crate) fn push(&mut self, token: &str) {
        self.apart = true;
        self.plain = false;
        self.append(token);
    }

    pub(super) fn append(&mut self, token: &str) {
        self.part();
        self.text.push_str(token);
        self.end(WordKey::of(token));
    }

    /// A token ends here.
    fn end(&mut self, key: WordKey) {
        let end = u32::try_from(self.text.len()).expect("a text is shorter than 4 GiB");
        self.tokens.push(JoinedToken { key, end, written: [0; 2], changed: false });
    }

    /// Appends a token of ASCII with small letters for its capitals.
    pub(super) fn push_small(&mut self, token: &str) {
        self.part();
        let start = self.text.len();
        self.text.push_str(token);
        self.text[start..].make_ascii_lowercase();
        self.end(WordKey::of(&self.text[start..]));
    }

    /// Puts a space behind the last token.
    pub(super) fn part(&mut self) {
        if !self.text.is_empty() {
            self.text.push(' ');
        }
    }

    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// Whether all of it is known to be ASCII.
    pub(crate) const fn is_plain(&self) -> bool {
        self.plain
    }

    pub(crate) const fn words(&self) -> usize {
        self.tokens.len()
    }

    pub(crate) fn word(&self, at: usize) -> &str {
        &self.text[self.start(at)..self.tokens[at].end as usize]
    }

    pub(crate) fn key(&self, at: usize) -> WordKey {
        self.tokens[at].key
    }

    /// Every word with its key.
    pub(crate) fn keyed(&self) -> impl Iterator<Item = (WordKey, &str)> {
        let mut start = 0;
        self.tokens.iter().map(move |token| {
            let word = &self.text[start..token.end as usize];
            start = token.end as usize + 1;
            (token.key, word)
        })
    }

    /// With how many words two texts begin, and with how many of the others they end alike; with the first `alike` they do.
    pub(crate) fn ends_alike(&self, other: &Self, alike: usize) -> [usize; 2] {
        let room = self.words().min(other.words());
        let head = (alike..room).take_while(|at| self.is_same(*at, other, *at)).count() + alike;
        let from_end = |back: &usize| self.is_same(self.words() - 1 - back, other, other.words() - 1 - back);
        [head, (0..room - head).take_while(from_end).count()]
    }

    /// Whether a word is the same as one of another text.
    pub(crate) fn is_same(&self, at: usize, other: &Self, there: usize) -> bool {
        let key = self.key(at);
        key == other.key(there) && (key.is_whole() || self.word(at) == other.word(there))
    }

    fn start(&self, word: usize) -> usize {
        word.checked_sub(1).map_or(0, |before| self.tokens[before].end as usize + 1)
    }

    /// The words from one to before another.
    pub(crate) fn stretch(&self, words: Range<usize>) -> &str {
        if words.is_empty() {
            ""
        } else {
            &self.text[self.start(words.start)..self.tokens[words.end - 1].end as usize]
        }
    }

    /// Fills this with the first words of another, as far as a text begins with the same; gives how many these are, and where in the
    /// text what follows them begins. A token of plain text is a word as written that stays as it is.
    pub(super) fn begin_like(&mut self, other: &Self, text: &str) -> (usize, usize) {
        let (bytes, others) = (text.as_bytes(), other.text.as_bytes());
        let same = alike_at_start(bytes, others);
        let ends_word = |end: usize| end <= same && bytes.get(end).is_none_or(|byte| *byte == b' ');
        let alike = other.tokens.iter().take_while(|token| ends_word(token.end as usize)).count();
        let Some(end) = alike.checked_sub(1).map(|last| other.tokens[last].end as usize) else { return (0, 0) };
        self.text.push_str(&text[..end]);
        let mut start = 0;
        self.tokens.extend(other.tokens[..alike].iter().map(|token| {
            let written = [start, token.end];
            start = token.end + 1;
            JoinedToken { written, changed: false, ..*token }
        }));
        (alike, end)
    }

    /// The tokens whose words as written have signs or capitals around them, of a text whose profile takes these away; none where
    /// that is not known.
    pub(crate) fn marked(&self) -> Option<impl Iterator<Item = &JoinedToken>> {
        Some(self.written().filter(|_| self.bare)?.iter().filter(|word| word.changed))
    }

    /// The tokens, each with its word as written; none where some word is no token, or several, or where that is not known.
    pub(crate) fn written(&self) -> Option<&[JoinedToken]> {
        (!self.apart).then_some(&self.tokens)
    }
}
