//! A small language to choose clips by: `channel = radio and duration > 2 and not wind in (none, light)`.
//!
//! ```text
//! either    = both { "or" both }
//! both      = one { "and" one }
//! one       = "not" one | "(" either ")" | "has" FIELD | FIELD test
//! test      = ("=" | "!=" | "<" | "<=" | ">" | ">=" | "~") VALUE | "in" "(" VALUE { "," VALUE } ")"
//! ```
//!
//! `~` asks whether a text holds another, whatever the case. Values with spaces or signs stand in double quotes. A test
//! on a field that a clip does not have fails, but for `!=`.

use thiserror::Error;

/// Where a condition cannot be understood. Columns count characters from 1.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("at column {column}: {what}; expected {expected}")]
pub struct ConditionError {
    /// Where.
    pub column: usize,
    /// What stands there.
    pub what: String,
    /// What could have stood there.
    pub expected: &'static str,
}

/// What a condition looks at.
pub trait Fields {
    /// The value of a field as text.
    fn text(&self, field: &str) -> Option<String>;
    /// The value of a field as a number.
    fn number(&self, field: &str) -> Option<f64>;
    /// Whether a field has a value; of several values one will do.
    fn equals(&self, field: &str, value: &str) -> bool {
        self.text(field).as_deref() == Some(value)
    }
}

/// A parsed condition.
#[derive(Debug, Clone, PartialEq)]
pub enum Condition {
    /// Either holds.
    Or(Box<Condition>, Box<Condition>),
    /// Both hold.
    And(Box<Condition>, Box<Condition>),
    /// It does not hold.
    Not(Box<Condition>),
    /// The field is there.
    Has(String),
    /// The field is one of these.
    In(String, Vec<String>),
    /// The field compares so.
    Is(String, Comparison, String),
}

/// How a field is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `!=`
    Unequal,
    /// `<`
    Below,
    /// `<=`
    AtMost,
    /// `>`
    Above,
    /// `>=`
    AtLeast,
    /// `~`
    Holds,
}

impl Condition {
    /// Reads a condition.
    ///
    /// # Errors
    /// With the column at which it cannot be understood.
    pub fn parse(text: &str) -> Result<Self, ConditionError> {
        let mut parser = Parser { tokens: tokens(text)?, at: 0, end: text.chars().count() + 1, depth: 0 };
        let condition = parser.either()?;
        match parser.tokens.get(parser.at) {
            None => Ok(condition),
            Some(_) => Err(parser.unexpected("and, or, or the end")),
        }
    }

    /// Whether a clip fulfils it.
    #[must_use]
    pub fn holds(&self, clip: &impl Fields) -> bool {
        match self {
            Self::Or(a, b) => a.holds(clip) || b.holds(clip),
            Self::And(a, b) => a.holds(clip) && b.holds(clip),
            Self::Not(inner) => !inner.holds(clip),
            Self::Has(field) => clip.text(field).is_some(),
            Self::In(field, values) => values.iter().any(|value| clip.equals(field, value)),
            Self::Is(field, comparison, value) => compare(clip, field, *comparison, value),
        }
    }

    /// The fields it looks at, in order.
    #[must_use]
    pub fn fields(&self) -> Vec<&str> {
        match self {
            Self::Or(a, b) | Self::And(a, b) => [a.fields(), b.fields()].concat(),
            Self::Not(inner) => inner.fields(),
            Self::Has(field) | Self::In(field, _) | Self::Is(field, ..) => vec![field],
        }
    }
}

fn compare(clip: &impl Fields, field: &str, comparison: Comparison, value: &str) -> bool {
    let numbers = clip.number(field).zip(value.parse::<f64>().ok());
    let text = clip.text(field);
    match comparison {
        Comparison::Equal => numbers.map_or_else(|| clip.equals(field, value), |(a, b)| a == b),
        Comparison::Unequal => numbers.map_or_else(|| !clip.equals(field, value), |(a, b)| a != b),
        Comparison::Holds => text.is_some_and(|text| text.to_lowercase().contains(&value.to_lowercase())),
        Comparison::Below => numbers.is_some_and(|(a, b)| a < b),
        Comparison::AtMost => numbers.is_some_and(|(a, b)| a <= b),
        Comparison::Above => numbers.is_some_and(|(a, b)| a > b),
        Comparison::AtLeast => numbers.is_some_and(|(a, b)| a >= b),
    }
}

#[derive(Debug, Clone, PartialEq)]
enum Token {
    Word(String),
    Quoted(String),
    Sign(&'static str),
}

const SIGNS: [&str; 10] = ["!=", "<=", ">=", "=", "<", ">", "~", "(", ")", ","];

fn tokens(text: &str) -> Result<Vec<(usize, Token)>, ConditionError> {
    let mut tokens = Vec::new();
    let mut rest = text;
    let column = |rest: &str| text[..text.len() - rest.len()].chars().count() + 1;
    loop {
        rest = rest.trim_start();
        if rest.is_empty() {
            return Ok(tokens);
        }
        let start = column(rest);
        if let Some(sign) = SIGNS.into_iter().find(|sign| rest.starts_with(sign)) {
            tokens.push((start, Token::Sign(sign)));
            rest = &rest[sign.len()..];
        } else if let Some(quoted) = rest.strip_prefix('"') {
            let end = quoted.find('"').ok_or(ConditionError {
                column: start,
                what: "a quote is never closed".to_owned(),
                expected: "a second double quote",
            })?;
            tokens.push((start, Token::Quoted(quoted[..end].to_owned())));
            rest = &quoted[end + 1..];
        } else {
            let ends = |c: char| c.is_whitespace() || "!=<>~(),\"".contains(c);
            let length = rest.find(ends).unwrap_or(rest.len());
            if length == 0 {
                let what = format!("\"{}\" means nothing here", &rest[..1]);
                return Err(ConditionError { column: start, what, expected: "=, !=, <, <=, >, >= or ~" });
            }
            tokens.push((start, Token::Word(rest[..length].to_owned())));
            rest = &rest[length..];
        }
    }
}

struct Parser {
    tokens: Vec<(usize, Token)>,
    at: usize,
    end: usize,
    depth: usize,
}

/// Deeper nesting than any person writes; it keeps the stack bounded.
const DEEPEST: usize = 100;

impl Parser {
    fn either(&mut self) -> Result<Condition, ConditionError> {
        let mut left = self.both()?;
        while self.take_word("or") {
            left = Condition::Or(Box::new(left), Box::new(self.both()?));
        }
        Ok(left)
    }

    fn both(&mut self) -> Result<Condition, ConditionError> {
        let mut left = self.one()?;
        while self.take_word("and") {
            left = Condition::And(Box::new(left), Box::new(self.one()?));
        }
        Ok(left)
    }

    fn one(&mut self) -> Result<Condition, ConditionError> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self.unexpected("fewer nested conditions"));
        }
        let condition = if self.take_word("not") {
            Condition::Not(Box::new(self.one()?))
        } else if self.take_sign("(") {
            let inner = self.either()?;
            self.need_sign(")", "a closing bracket, and, or or")?;
            inner
        } else if self.take_word("has") {
            Condition::Has(self.word("the name of a field")?)
        } else {
            self.test()?
        };
        self.depth -= 1;
        Ok(condition)
    }

    fn test(&mut self) -> Result<Condition, ConditionError> {
        let field = self.word("a field, not, has, or an opening bracket")?;
        if self.take_word("in") {
            self.need_sign("(", "an opening bracket and values")?;
            let mut values = vec![self.value()?];
            while self.take_sign(",") {
                values.push(self.value()?);
            }
            self.need_sign(")", "a comma or a closing bracket")?;
            return Ok(Condition::In(field, values));
        }
        let comparison = match self.tokens.get(self.at) {
            Some((_, Token::Sign("="))) => Comparison::Equal,
            Some((_, Token::Sign("!="))) => Comparison::Unequal,
            Some((_, Token::Sign("<"))) => Comparison::Below,
            Some((_, Token::Sign("<="))) => Comparison::AtMost,
            Some((_, Token::Sign(">"))) => Comparison::Above,
            Some((_, Token::Sign(">="))) => Comparison::AtLeast,
            Some((_, Token::Sign("~"))) => Comparison::Holds,
            _ => return Err(self.unexpected("=, !=, <, <=, >, >=, ~ or in")),
        };
        self.at += 1;
        Ok(Condition::Is(field, comparison, self.value()?))
    }

    fn value(&mut self) -> Result<String, ConditionError> {
        if let Some((_, Token::Quoted(text))) = self.tokens.get(self.at) {
            self.at += 1;
            return Ok(text.clone());
        }
        self.word("a value, in double quotes if it has spaces or signs")
    }

    fn word(&mut self, expected: &'static str) -> Result<String, ConditionError> {
        match self.tokens.get(self.at) {
            Some((_, Token::Word(word))) => {
                self.at += 1;
                Ok(word.clone())
            }
            _ => Err(self.unexpected(expected)),
        }
    }

    fn take_word(&mut self, word: &str) -> bool {
        let found = matches!(self.tokens.get(self.at), Some((_, Token::Word(w))) if w == word);
        self.at += usize::from(found);
        found
    }

    fn take_sign(&mut self, sign: &str) -> bool {
        let found = matches!(self.tokens.get(self.at), Some((_, Token::Sign(s))) if *s == sign);
        self.at += usize::from(found);
        found
    }

    fn need_sign(&mut self, sign: &str, expected: &'static str) -> Result<(), ConditionError> {
        if self.take_sign(sign) { Ok(()) } else { Err(self.unexpected(expected)) }
    }

    fn unexpected(&self, expected: &'static str) -> ConditionError {
        let (column, what) = match self.tokens.get(self.at) {
            None => (self.end, "the condition ends".to_owned()),
            Some((column, Token::Word(word))) => (*column, format!("\"{word}\"")),
            Some((column, Token::Quoted(text))) => (*column, format!("the text \"{text}\"")),
            Some((column, Token::Sign(sign))) => (*column, format!("\"{sign}\"")),
        };
        ConditionError { column, what, expected }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    struct Clip;

    impl Fields for Clip {
        fn text(&self, field: &str) -> Option<String> {
            let value = match field {
                "channel" => "radio",
                "wind" => "strong",
                "text" => "Hold at Pylon six",
                "duration" => "2.5",
                _ => return None,
            };
            Some(value.to_owned())
        }

        fn number(&self, field: &str) -> Option<f64> {
            self.text(field)?.parse().ok()
        }
    }

    #[test]
    fn conditions_hold_as_they_read() {
        let cases = [
            ("channel = radio", true),
            ("channel=radio and wind != none", true),
            ("channel = desk or wind in (light, strong)", true),
            ("not channel = radio or duration >= 2.5", true),
            ("not (channel = radio or duration > 9)", false),
            ("text ~ \"at pylon\" and duration < 10", true),
            ("duration = 2.50", true),
            ("has speaker", false),
            ("speaker = op-1", false),
            ("speaker != op-1 and not has speaker", true),
            ("speaker < 3", false),
            ("channel = desk and channel = radio or wind = strong", true),
        ];
        for (text, expected) in cases {
            assert_eq!(Condition::parse(text).unwrap().holds(&Clip), expected, "{text}");
        }
        assert_eq!(Condition::parse("a = 1 and (b > 2 or not has c)").unwrap().fields(), ["a", "b", "c"]);
    }

    #[test]
    fn mistakes_name_their_column() {
        let cases = [
            ("", 1),
            ("channel", 8),
            ("channel == radio", 10),
            ("channel = radio wind", 17),
            ("channel = \"radio", 11),
            ("(channel = radio", 17),
            ("wind in strong", 9),
            ("a ! b", 3),
        ];
        for (text, column) in cases {
            assert_eq!(Condition::parse(text).unwrap_err().column, column, "{text}");
        }
        assert!(Condition::parse(&"(".repeat(100_000)).is_err());
    }

    proptest! {
        #[test]
        fn no_text_crashes_the_parser(text in "\\PC{0,30}|[a-c=<>!~(), \"notadr]{0,40}") {
            if let Ok(condition) = Condition::parse(&text) {
                prop_assert_eq!(Condition::Not(Box::new(condition.clone())).holds(&Clip), !condition.holds(&Clip));
            }
        }
    }
}
