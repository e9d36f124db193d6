//! Reference texts that admit more than one right answer: `{going to|gonna}`, `{um|}`.

use std::borrow::Cow;

use thiserror::Error;

use super::TextProfile;

/// The most readings all choices of one label may offer together.
const MOST_READINGS: usize = 4096;

/// A label split into fixed text and choices, in reading order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Label {
    parts: Vec<LabelPart>,
}

/// Whether a text holds a sign that may open or close a choice.
fn has_brackets(text: &str) -> bool {
    // Every byte is looked at, which is quicker than stopping at the first.
    text.bytes().fold(false, |any, byte| any | matches!(byte, b'{' | b'}' | b'\\'))
}

/// A plain text as a label that has no choices, whatever signs it holds.
#[must_use]
pub fn plain_label(text: &str) -> String {
    text.replace('\\', "\\\\").replace('{', "\\{").replace('}', "\\}")
}

/// One stretch of a label.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LabelPart {
    /// Text that must be there.
    Fixed(String),
    /// Readings of which any one is right; an empty reading means the words may be missing.
    Choice(Vec<String>),
}

/// What is wrong with the brackets of a label. `column` counts characters from 1.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LabelError {
    /// `{` without its `}`.
    #[error(
        "the bracket opened at column {column} is never closed; write {{one|other}}, or \\{{ for a plain bracket"
    )]
    NeverClosed {
        /// Where the bracket opens.
        column: usize,
    },
    /// `{` inside another choice.
    #[error("a bracket opens at column {column} inside another one; choices cannot be nested")]
    Nested {
        /// Where the inner bracket opens.
        column: usize,
    },
    /// `}` without its `{`.
    #[error("the bracket at column {column} closes nothing; write \\}} for a plain bracket")]
    NeverOpened {
        /// Where the stray bracket stands.
        column: usize,
    },
    /// More readings than any label needs; the limit keeps alignment bounded.
    #[error("the label offers more than {MOST_READINGS} readings; split it into several clips")]
    TooMany,
    /// `{word}` offers nothing to choose from.
    #[error(
        "the bracket opened at column {column} holds no \"|\"; write {{one|other}}, or {{word|}} if it may be missing"
    )]
    NoChoice {
        /// Where the bracket opens.
        column: usize,
    },
}

impl Label {
    /// Reads a label. Brackets and bars are literal after a backslash; a bar outside brackets is plain text.
    ///
    /// # Errors
    /// When brackets do not pair up, are nested, or offer no choice.
    pub fn parse(text: &str) -> Result<Self, LabelError> {
        let mut label = Self::default();
        label.refill(text)?;
        Ok(label)
    }

    /// [`Self::parse`] into the room of the label before.
    ///
    /// # Errors
    /// As [`Self::parse`].
    pub fn refill(&mut self, text: &str) -> Result<(), LabelError> {
        match self.parts.as_mut_slice() {
            _ if has_brackets(text) => *self = Self::parse_choices(text)?,
            _ if text.is_empty() => self.parts.clear(),
            [LabelPart::Fixed(fixed)] => {
                fixed.clear();
                fixed.push_str(text);
            }
            _ => self.parts = vec![LabelPart::Fixed(text.to_owned())],
        }
        Ok(())
    }

    /// What is wrong with a label's text, if anything.
    ///
    /// # Errors
    /// As [`Self::parse`].
    pub fn check(text: &str) -> Result<(), LabelError> {
        if has_brackets(text) { Self::parse_choices(text).map(drop) } else { Ok(()) }
    }

    fn parse_choices(text: &str) -> Result<Self, LabelError> {
        let mut parts = Vec::new();
        let mut fixed = String::new();
        let mut choice: Option<(usize, Vec<String>)> = None;
        let mut offered = 0;
        let mut chars = text.chars().enumerate().peekable();
        while let Some((at, c)) = chars.next() {
            let column = at + 1;
            let mut literal = None;
            match (c, &mut choice) {
                ('\\', _) if matches!(chars.peek(), Some((_, '{' | '}' | '|' | '\\'))) => {
                    literal = chars.next().map(|(_, escaped)| escaped);
                }
                ('{', Some(_)) => return Err(LabelError::Nested { column }),
                ('{', None) => {
                    if !fixed.is_empty() {
                        parts.push(LabelPart::Fixed(std::mem::take(&mut fixed)));
                    }
                    choice = Some((column, vec![String::new()]));
                }
                ('}', None) => return Err(LabelError::NeverOpened { column }),
                ('}', Some(_)) => {
                    let (opened, readings) = choice.take().expect("a choice is open in this arm");
                    if readings.len() < 2 {
                        return Err(LabelError::NoChoice { column: opened });
                    }
                    offered += readings.len();
                    if offered > MOST_READINGS {
                        return Err(LabelError::TooMany);
                    }
                    parts.push(LabelPart::Choice(readings));
                }
                ('|', Some((_, readings))) => readings.push(String::new()),
                _ => literal = Some(c),
            }
            if let Some(c) = literal {
                match &mut choice {
                    Some((_, readings)) => readings.last_mut().expect("a choice has a reading").push(c),
                    None => fixed.push(c),
                }
            }
        }
        if let Some((column, _)) = choice {
            return Err(LabelError::NeverClosed { column });
        }
        if !fixed.is_empty() {
            parts.push(LabelPart::Fixed(fixed));
        }
        Ok(Self { parts })
    }

    /// The label with the other readings that a profile knows of its fixed text: "five to ten" may be `9:55`.
    pub(crate) fn in_profile(&self, profile: &TextProfile) -> Cow<'_, Self> {
        let Some(language) = profile.forms() else { return Cow::Borrowed(self) };
        let mut offered: usize = 0;
        let mut changed = false;
        let mut parts = Vec::with_capacity(self.parts.len());
        for part in &self.parts {
            let readings = match part {
                LabelPart::Fixed(text) if offered < MOST_READINGS => language.readings(text),
                _ => None,
            };
            changed |= readings.is_some();
            let more = readings.unwrap_or_else(|| vec![part.clone()]);
            offered += more
                .iter()
                .map(|part| if let LabelPart::Choice(texts) = part { texts.len() } else { 0 })
                .sum::<usize>();
            parts.extend(more);
        }
        if changed { Cow::Owned(Self { parts }) } else { Cow::Borrowed(self) }
    }

    /// The stretches in reading order.
    #[must_use]
    pub fn parts(&self) -> &[LabelPart] {
        &self.parts
    }

    /// The texts the label admits, the first `most` of them.
    #[must_use]
    pub fn readings(&self, most: usize) -> Vec<String> {
        self.parts.iter().fold(vec![String::new()], |so_far, part| match part {
            LabelPart::Fixed(text) => so_far.into_iter().map(|head| head + text).collect(),
            LabelPart::Choice(readings) => {
                let all = so_far.iter().flat_map(|head| readings.iter().map(move |tail| format!("{head}{tail}")));
                all.take(most).collect()
            }
        })
    }

    /// The text with the first reading of every choice: what a synthesiser is asked to speak.
    #[must_use]
    pub fn first_reading(&self) -> String {
        self.parts
            .iter()
            .map(|part| match part {
                LabelPart::Fixed(text) => text.as_str(),
                LabelPart::Choice(readings) => readings[0].as_str(),
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn choices_and_escapes_are_read() {
        let label = Label::parse(r"I am {going to|gonna} hold {um|} \{here\} a|b").unwrap();
        assert_eq!(
            label.parts(),
            [
                LabelPart::Fixed("I am ".into()),
                LabelPart::Choice(vec!["going to".into(), "gonna".into()]),
                LabelPart::Fixed(" hold ".into()),
                LabelPart::Choice(vec!["um".into(), String::new()]),
                LabelPart::Fixed(" {here} a|b".into()),
            ]
        );
        assert_eq!(label.first_reading(), "I am going to hold um {here} a|b");
    }

    #[test]
    fn broken_brackets_name_their_column() {
        assert_eq!(Label::parse("a {b|c"), Err(LabelError::NeverClosed { column: 3 }));
        assert_eq!(Label::parse("a {b|{c|d}}"), Err(LabelError::Nested { column: 6 }));
        assert_eq!(Label::parse("é }"), Err(LabelError::NeverOpened { column: 3 }));
        assert_eq!(Label::parse("{b}"), Err(LabelError::NoChoice { column: 1 }));
    }

    #[test]
    fn a_label_read_into_anothers_room_is_the_one_read_anew() {
        let mut label = Label::default();
        for text in ["", "hold", "", "a {b|c} d", "at pylon six", r"\{x", "{um|}", "{b|", "gate", "{um|}", ""] {
            let anew = Label::parse(text);
            assert_eq!(Label::check(text), anew.clone().map(drop));
            assert_eq!(label.refill(text), anew.clone().map(drop));
            if let Ok(anew) = anew {
                assert_eq!(label, anew, "{text:?}");
            }
        }
    }
}
