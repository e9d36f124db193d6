//! One line of JSON from a worker.

use std::path::PathBuf;

use fonex_core::{Alternative, HeardWord, Outcome};
use serde::Deserialize;
use serde_json::Value;

use crate::mapping::Wanted;
use crate::{cut, json};

/// One line from a worker.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Line {
    #[serde(default)]
    pub(super) ready: Option<u32>,
    #[serde(default)]
    pub(super) name: Option<String>,
    #[serde(default)]
    #[expect(dead_code, reason = "looked at before the line is read")]
    pub(super) id: Option<u64>,
    #[serde(default)]
    pub(super) more: Option<String>,
    #[serde(default)]
    pub(super) text: Option<String>,
    #[serde(default)]
    pub(super) words: Vec<HeardWord>,
    #[serde(default)]
    pub(super) alternatives: Vec<Alternative>,
    #[serde(default)]
    pub(super) lang: Option<String>,
    #[serde(default)]
    pub(super) confidence: Option<f64>,
    #[serde(default)]
    pub(super) audio: Option<PathBuf>,
    #[serde(default)]
    pub(super) audio_base64: Option<String>,
    #[serde(default)]
    pub(super) outcome: Option<Outcome>,
    #[serde(default)]
    pub(super) detail: Option<String>,
    #[serde(default)]
    pub(super) usage: Option<Value>,
}

/// A line as an answer to a request; none where it is not one.
///
/// # Errors
/// When it bears the request's id and still is none, in words that quote it.
pub(crate) fn read_line(text: &str, id: u64) -> Result<Option<Line>, String> {
    let Ok(value) = json::parse(text, &Wanted::everything()) else {
        // Too much is told by its beginning, which is all that can be trusted of it.
        let begins = text.trim_start().starts_with(&format!("{{\"id\":{id},"));
        return if begins { Err(format!("its answer is not JSON, or too much: {}", cut(text))) } else { Ok(None) };
    };
    if value.get("id").and_then(Value::as_u64) != Some(id) {
        return Ok(None);
    }
    serde_json::from_value(value)
        .map(Some)
        .map_err(|error| format!("its answer cannot be read ({error}): {}", cut(text)))
}
