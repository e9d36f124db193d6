//! From an engine's own JSON to what was heard, addressed by JSON Pointer (RFC 6901) or JSONPath (RFC 9535).

mod address;
mod wanted;

use std::sync::LazyLock;

use fonex_core::{Alternative, Heard, HeardWord};
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::Task;
pub use address::Address;
pub(crate) use wanted::Wanted;

/// In which unit times are given as plain numbers. A string such as `1.5s` or `350ms` carries its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub enum TimeUnit {
    /// Seconds.
    #[default]
    #[serde(rename = "s")]
    Seconds,
    /// Milliseconds.
    #[serde(rename = "ms")]
    Milliseconds,
    /// Ticks of 100 nanoseconds.
    #[serde(rename = "100ns")]
    Ticks,
}

impl TimeUnit {
    fn seconds(self, number: f64) -> f64 {
        match self {
            Self::Seconds => number,
            Self::Milliseconds => number / 1e3,
            Self::Ticks => number / 1e7,
        }
    }

    /// A time in seconds: a number in this unit, or a string that may name its own. `0:01:02.5` is read as well.
    fn read(self, value: &Value) -> Option<f64> {
        let seconds = match value {
            Value::Number(number) => self.seconds(number.as_f64()?),
            Value::String(text) => {
                let text = text.trim();
                let suffixed = [("ms", 1e-3), ("s", 1.0)].into_iter().find_map(|(unit, factor)| {
                    Some(text.strip_suffix(unit)?.trim_end().parse::<f64>().ok()? * factor)
                });
                match suffixed {
                    Some(seconds) => seconds,
                    None if text.contains(':') => {
                        text.split(':').try_fold(0.0, |sum, part| Some(sum * 60.0 + part.parse::<f64>().ok()?))?
                    }
                    None => self.seconds(text.parse().ok()?),
                }
            }
            _ => return None,
        };
        seconds.is_finite().then_some(seconds)
    }
}

/// Where the parts of a word stand inside one element of the list of words.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct WordFields {
    /// The word.
    pub text: Address,
    /// Its start.
    pub start: Address,
    /// Its end.
    pub end: Address,
    /// Its length, where the answer gives that instead of an end.
    pub length: Option<Address>,
    /// The engine's confidence in it.
    pub confidence: Address,
    /// Unit of the times.
    pub unit: TimeUnit,
}

/// Where the text stands that no address names.
static DEFAULT_TEXT: LazyLock<Address> = LazyLock::new(|| pointer("/text"));

fn pointer(text: &str) -> Address {
    Address::Pointer(text.to_owned())
}

impl Default for WordFields {
    fn default() -> Self {
        Self {
            text: pointer("/text"),
            start: pointer("/start"),
            end: pointer("/end"),
            length: None,
            confidence: pointer("/confidence"),
            unit: TimeUnit::Seconds,
        }
    }
}

/// Where the parts of a further reading stand inside one element of their list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct AlternativeFields {
    /// The text.
    pub text: Address,
    /// The engine's confidence in it.
    pub confidence: Address,
}

impl Default for AlternativeFields {
    fn default() -> Self {
        Self { text: pointer("/text"), confidence: pointer("/confidence") }
    }
}

/// The form of a result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ResultForm {
    /// The text as it is.
    Text,
    /// JSON with the parts at addresses.
    Json,
    /// Audio in any container that is read, or bare samples.
    Audio,
    /// A stream of server-sent events whose data is JSON.
    Events,
    /// A stream of JSON values, one a line.
    Lines,
}

impl ResultForm {
    /// Whether the answer comes in steps.
    pub(crate) const fn streams(self) -> bool {
        matches!(self, Self::Events | Self::Lines)
    }
}

/// How the steps of a stream become one text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Steps {
    /// Each step adds to the text as it stands.
    Add,
    /// Each step replaces the text before it.
    Replace,
}

/// Where and in which form a result comes.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ResultConfig {
    /// In which form it comes; by default audio for synthesisers, and otherwise JSON from services and text from commands.
    #[serde(rename = "as")]
    pub form: Option<ResultForm>,
    /// The text; `/text` where it is left out. A JSON Pointer must lead somewhere unless `text_may_be_absent`.
    pub text: Option<Address>,
    /// The list of words.
    pub words: Option<Address>,
    /// Where the parts of a word stand inside an element of that list.
    pub word: WordFields,
    /// The list of further readings.
    pub alternatives: Option<Address>,
    /// Where the parts of one stand.
    pub alternative: AlternativeFields,
    /// The language the engine says was spoken.
    pub lang: Option<Address>,
    /// Its confidence in the whole text.
    pub confidence: Option<Address>,
    /// What was used up.
    pub usage: Option<Address>,
    /// An answer without a text means that there were no words.
    pub text_may_be_absent: bool,
    /// Audio in Base64 inside the JSON.
    pub audio: Option<Address>,
    /// A link to fetch the audio from.
    pub audio_link: Option<Address>,
    /// The audio is bare 16-bit little-endian samples of this rate.
    pub raw_rate_hz: Option<u32>,
    /// How the steps of a stream become one text: recognisers replace, responders add.
    pub steps: Option<Steps>,
    /// Only server-sent events of these names count; all where it is left out.
    pub events: Vec<String>,
    /// Data that ends a stream.
    pub end_mark: Option<String>,
}

impl ResultConfig {
    /// Checks that the form and the addresses fit what the engine does; `offered` are the forms the transport can give.
    pub(crate) fn check(
        &self,
        task: Task,
        default: ResultForm,
        offered: &[ResultForm],
        at: &dyn Fn(&str) -> Place,
    ) -> Result<(), Problem> {
        let form = self.form.unwrap_or(default);
        let wrong = |what: String, key: &str, expected: &str| {
            Err(Problem::new(what, at(&format!("result.{key}"))).expected(expected.to_owned()))
        };
        if !offered.contains(&form) {
            return wrong("this transport cannot give this result".to_owned(), "as", &names(offered));
        }
        let json = form == ResultForm::Json || form.streams();
        let carries_sound = self.audio.is_some() || self.audio_link.is_some();
        match task {
            Task::Speak if form == ResultForm::Text => {
                return wrong(
                    "a synthesiser cannot give text".to_owned(),
                    "as",
                    "audio, or json with audio or audio_link",
                );
            }
            Task::Speak if json && !carries_sound => {
                return wrong(
                    "nothing says where the audio is".to_owned(),
                    "audio",
                    "audio or audio_link beside as = \"json\"",
                );
            }
            Task::Hear | Task::Reply if form == ResultForm::Audio => {
                return wrong("an engine that gives text cannot give this result".to_owned(), "as", "text or json");
            }
            _ => {}
        }
        let addresses = [
            ("text", &self.text),
            ("words", &self.words),
            ("alternatives", &self.alternatives),
            ("lang", &self.lang),
            ("confidence", &self.confidence),
            ("audio", &self.audio),
        ];
        if let Some((key, _)) = addresses.into_iter().find(|(_, address)| address.is_some() && !json) {
            let problem = Problem::new("an address is for JSON only", at(&format!("result.{key}")));
            return Err(problem.remedy("write as = \"json\" beside it, or remove it"));
        }
        Ok(())
    }

    /// Every address of the whole answer that is looked at.
    pub(crate) fn addresses(&self) -> impl Iterator<Item = &Address> {
        let given = [
            Some(self.text.as_ref().unwrap_or(&DEFAULT_TEXT)),
            self.words.as_ref(),
            self.alternatives.as_ref(),
            self.lang.as_ref(),
            self.confidence.as_ref(),
            self.usage.as_ref(),
            self.audio.as_ref(),
            self.audio_link.as_ref(),
        ];
        given.into_iter().flatten()
    }

    /// Reads the text alone.
    pub(crate) fn heard_text(&self, answer: &Value) -> Result<String, String> {
        let address = self.text.as_ref().unwrap_or(&DEFAULT_TEXT);
        match address.text(answer)? {
            Some(text) => Ok(text),
            None if self.text_may_be_absent || matches!(address, Address::Path(_)) => Ok(String::new()),
            None => Err(format!("the answer has nothing at {address}")),
        }
    }

    /// Reads what was heard.
    pub(crate) fn heard(&self, answer: &Value) -> Result<Heard, String> {
        let text = self.heard_text(answer)?;
        let words = match &self.words {
            None => Vec::new(),
            Some(address) => match address.list(answer) {
                Some(words) => words.into_iter().map(|word| self.word.read(word)).collect::<Result<_, _>>()?,
                None if text.trim().is_empty() => Vec::new(),
                None => return Err(format!("the answer has no list at {address}")),
            },
        };
        let alternatives = match &self.alternatives {
            None => Vec::new(),
            Some(address) => {
                let found = address.list(answer).unwrap_or_default();
                found.into_iter().map(|item| self.alternative.read(item)).collect::<Result<_, _>>()?
            }
        };
        let lang = self.lang.as_ref().and_then(|address| address.one(answer)?.as_str()).map(str::to_owned);
        let confidence = confidence(self.confidence.as_ref().and_then(|address| address.one(answer)));
        Ok(Heard { text, words, alternatives, lang, confidence, ..Heard::default() })
    }

    /// What the engine says was used up, as its own JSON.
    pub(crate) fn usage(&self, answer: &Value) -> Option<String> {
        Some(self.usage.as_ref()?.one(answer)?.to_string())
    }
}

fn names(forms: &[ResultForm]) -> String {
    let names = forms.iter().map(|form| format!("{form:?}").to_lowercase());
    names.collect::<Vec<_>>().join(" or ")
}

/// A share of certainty; one given in percent or as nonsense is no confidence.
fn confidence(value: Option<&Value>) -> Option<f64> {
    let value = value?;
    let number = value.as_f64().or_else(|| value.as_str()?.parse().ok())?;
    (0.0..=1.0).contains(&number).then_some(number)
}

impl AlternativeFields {
    fn read(&self, item: &Value) -> Result<Alternative, String> {
        let text = match item.as_str() {
            Some(text) => text.to_owned(),
            None => self.text.text(item)?.ok_or_else(|| format!("an alternative has nothing at {}", self.text))?,
        };
        Ok(Alternative { text, confidence: confidence(self.confidence.one(item)) })
    }
}

impl WordFields {
    fn read(&self, word: &Value) -> Result<HeardWord, String> {
        let time = |address: &Address| address.one(word).and_then(|value| self.unit.read(value));
        let text = self.text.text(word)?.ok_or_else(|| format!("a word has no string at {}", self.text))?;
        let start = time(&self.start);
        let end = match &self.length {
            Some(length) => start.zip(time(length)).map(|(start, length)| start + length),
            None => time(&self.end),
        };
        Ok(HeardWord { text, start, end, confidence: confidence(self.confidence.one(word)) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn times_in_every_unit() {
        let read = |unit: TimeUnit, value: Value| unit.read(&value);
        assert_eq!(read(TimeUnit::Seconds, json!(1.5)), Some(1.5));
        assert_eq!(read(TimeUnit::Milliseconds, json!(1500)), Some(1.5));
        assert_eq!(read(TimeUnit::Ticks, json!(15_000_000)), Some(1.5));
        for text in ["1.5s", "1500ms", "1.5 s", "0:01.5"] {
            assert_eq!(read(TimeUnit::Ticks, json!(text)), Some(1.5), "{text}");
        }
        assert_eq!(read(TimeUnit::Milliseconds, json!("1500")), Some(1.5));
        for bad in [json!("soon"), json!(null), json!([]), json!("NaN")] {
            assert_eq!(read(TimeUnit::Seconds, bad), None);
        }
    }

    #[test]
    fn an_answer_of_nested_parts_is_read_by_paths() {
        let fields: ResultConfig = serde_json::from_value(json!({
            "text": "$.parts[*].best[0].words", "words": "$.parts[*].best[0].items[*]",
            "word": {"text": "/w", "start": "/offset", "length": "/for", "unit": "100ns"},
            "alternatives": "$.parts[*].best[1:]", "alternative": {"text": "/words", "confidence": "/sure"}
        }))
        .unwrap();
        let answer = json!({"parts": [
            {"best": [{"words": "hold at", "items": [{"w": "hold", "offset": 10_000_000, "for": "300ms"}, {"w": "at", "offset": 0, "confidence": 97}]},
                      {"words": "old at", "sure": 0.2}]},
            {"best": [{"words": "pylon six", "items": []}]}
        ]});
        let heard = fields.heard(&answer).unwrap();
        assert_eq!(heard.text, "hold at pylon six");
        assert_eq!((heard.words[0].start, heard.words[0].end), (Some(1.0), Some(1.3)));
        assert_eq!((heard.words.len(), heard.words[1].confidence), (2, None));
        assert_eq!(heard.alternatives, [Alternative { text: "old at".into(), confidence: Some(0.2) }]);
        assert_eq!(fields.heard(&json!({})).unwrap().text, "");
    }

    #[test]
    fn addresses_are_checked_and_written_back() {
        for text in ["", "/a/b", "$.a[*].b"] {
            let address: Address = serde_json::from_value(json!(text)).unwrap();
            assert_eq!(address.to_string().replace("['a']", ".a").replace("['b']", ".b"), text);
        }
        for bad in ["a.b", "$.a["] {
            assert!(serde_json::from_value::<Address>(json!(bad)).is_err(), "{bad}");
            for deep in ["$[", "$[?(", "$..["] {
                assert!(serde_json::from_value::<Address>(json!(deep.repeat(20_000))).is_err());
                assert!(serde_json::from_value::<Address>(json!(format!("${}", deep[1..].repeat(120)))).is_err());
            }
        }
    }
}
