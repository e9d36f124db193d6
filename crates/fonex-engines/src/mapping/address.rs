//! Where something stands in a JSON answer: JSON Pointer (RFC 6901) or JSONPath (RFC 9535).

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use serde_json::Value;
use serde_json_path::JsonPath;

/// Where something stands in an answer.
#[derive(Debug, Clone)]
pub enum Address {
    /// JSON Pointer: `/result/text`; empty for the whole answer.
    Pointer(String),
    /// JSONPath: `$.results[*].text`.
    Path(Box<JsonPath>),
}

/// Characters an address may have.
const LONGEST: usize = 500;

impl Address {
    /// Every value at the address.
    pub(crate) fn all<'a>(&self, answer: &'a Value) -> Vec<&'a Value> {
        match self {
            Self::Pointer(pointer) => pointed_at(answer, pointer).into_iter().collect(),
            Self::Path(path) => path.query(answer).all(),
        }
    }

    /// The names and places that lead to whatever the address can find: all of them of a pointer, and of a path those before its
    /// first wildcard, slice, filter or descent.
    pub(super) fn leading(&self) -> Vec<String> {
        match self {
            Self::Pointer(pointer) => {
                let token = |token: &str| match token.contains('~') {
                    true => token.replace("~1", "/").replace("~0", "~"),
                    false => token.to_owned(),
                };
                pointer.split('/').skip(1).map(token).collect()
            }
            Self::Path(path) => leading_of_path(&path.to_string()),
        }
    }

    /// The first value at the address that is not null.
    pub(crate) fn one<'a>(&self, answer: &'a Value) -> Option<&'a Value> {
        self.all(answer).into_iter().find(|value| !value.is_null())
    }

    /// Strings at the address, several joined with spaces. None where there is nothing.
    pub(super) fn text(&self, answer: &Value) -> Result<Option<String>, String> {
        let mut joined: Option<String> = None;
        for value in self.all(answer) {
            let string = value.as_str().ok_or_else(|| format!("the value at {self} is not a string"))?;
            match &mut joined {
                None => joined = Some(string.to_owned()),
                Some(joined) => joined.extend([" ", string]),
            }
        }
        Ok(joined)
    }

    /// A list at the address: an array, or the several values a JSONPath finds.
    pub(super) fn list<'a>(&self, answer: &'a Value) -> Option<Vec<&'a Value>> {
        let found = self.all(answer);
        match (self, found.as_slice()) {
            (_, [Value::Array(items)]) => Some(items.iter().collect()),
            (Self::Pointer(_), _) => None,
            (Self::Path(_), _) => Some(found),
        }
    }
}

/// The value at a JSON Pointer. Names of objects are looked up as they stand where none of them has a sign to be decoded.
fn pointed_at<'a>(answer: &'a Value, pointer: &str) -> Option<&'a Value> {
    let (mut here, mut rest) = (answer, pointer);
    while let (Value::Object(fields), Some(behind)) =
        (here, rest.strip_prefix('/').filter(|_| !pointer.contains('~')))
    {
        let (name, _) = behind.split_once('/').unwrap_or((behind, ""));
        here = fields.get(name)?;
        rest = &behind[name.len()..];
    }
    here.pointer(rest)
}

fn leading_of_path(path: &str) -> Vec<String> {
    let mut tokens = Vec::new();
    let mut rest = path.strip_prefix('$').unwrap_or_default();
    // A filter may look at any part of the whole.
    while !rest.contains('$') {
        let plain = |c: char| c.is_alphanumeric() || c == '_';
        let token = if let Some(name) = rest.strip_prefix('.') {
            name.split_once(|c| !plain(c)).map_or(name, |(name, _)| name)
        } else if let Some((inside, _)) = rest.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            let quoted = ['\'', '"'].into_iter().find_map(|sign| inside.strip_prefix(sign)?.strip_suffix(sign));
            let name = quoted.filter(|name| name.chars().all(|c| plain(c) || matches!(c, ' ' | '-')));
            name.or_else(|| Some(inside).filter(|place| place.bytes().all(|b| b.is_ascii_digit())))
                .unwrap_or_default()
        } else {
            break;
        };
        if token.is_empty() {
            break;
        }
        tokens.push(token.to_owned());
        let end =
            if rest.starts_with('.') { 1 + token.len() } else { rest.find(']').map_or(rest.len(), |at| at + 1) };
        rest = &rest[end..];
    }
    tokens
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Pointer(pointer) => f.write_str(pointer),
            Self::Path(path) => write!(f, "{path}"),
        }
    }
}

impl PartialEq for Address {
    fn eq(&self, other: &Self) -> bool {
        self.to_string() == other.to_string()
    }
}

impl schemars::JsonSchema for Address {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Address".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A place in an answer: a JSON Pointer (RFC 6901), or a JSONPath (RFC 9535) that begins with $",
            "type": "string"
        })
    }
}

impl Serialize for Address {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Address {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        // Brackets within brackets are read one within the other.
        if text.len() > LONGEST {
            let begins: String = text.chars().take(40).collect();
            return Err(de::Error::custom(format!("an address may have at most {LONGEST} characters: {begins}…")));
        }
        if text.is_empty() || text.starts_with('/') {
            return Ok(Self::Pointer(text));
        }
        if text.starts_with('$') {
            return JsonPath::parse(&text).map(|path| Self::Path(Box::new(path))).map_err(|error| {
                let at = error.position() + 1;
                de::Error::custom(format!("{text:?} is not a JSONPath: {} at column {at}", error.message()))
            });
        }
        Err(de::Error::custom(format!(
            "{text:?} is not an address, expected a JSON Pointer such as /result/text, or a JSONPath such as $.result.text"
        )))
    }
}
