//! From an engine's own JSON to what was heard, addressed by JSON Pointer (RFC 6901).

use fonex_core::{Heard, HeardWord};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Where the parts of a word stand inside one element of the list of words; times in seconds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct WordFields {
    /// The word.
    pub text: String,
    /// Its start.
    pub start: String,
    /// Its end.
    pub end: String,
    /// The engine's confidence in it.
    pub confidence: String,
}

impl Default for WordFields {
    fn default() -> Self {
        Self { text: "/text".into(), start: "/start".into(), end: "/end".into(), confidence: "/confidence".into() }
    }
}

/// Reads what was heard. `text` must be there; where `words` is given it must be a list.
pub(crate) fn heard_from(
    answer: &Value,
    text: &str,
    words: Option<&str>,
    fields: &WordFields,
) -> Result<Heard, String> {
    let text = answer
        .pointer(text)
        .ok_or_else(|| format!("the answer has nothing at {text}"))?
        .as_str()
        .ok_or_else(|| format!("what stands at {text} is not a string"))?;
    let words = match words {
        None => Vec::new(),
        Some(pointer) => answer
            .pointer(pointer)
            .and_then(Value::as_array)
            .ok_or_else(|| format!("the answer has no list at {pointer}"))?
            .iter()
            .map(|word| heard_word(word, fields))
            .collect::<Result<_, _>>()?,
    };
    Ok(Heard { text: text.to_owned(), words, ..Heard::default() })
}

fn heard_word(word: &Value, fields: &WordFields) -> Result<HeardWord, String> {
    let number = |pointer: &str| word.pointer(pointer).and_then(Value::as_f64);
    let text = word
        .pointer(&fields.text)
        .and_then(Value::as_str)
        .ok_or_else(|| format!("a word has no string at {}", fields.text))?;
    Ok(HeardWord {
        text: text.to_owned(),
        start: number(&fields.start),
        end: number(&fields.end),
        confidence: number(&fields.confidence),
    })
}
