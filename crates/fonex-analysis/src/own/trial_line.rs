//! One trial as others read it: measures of one's own, and programs that are given a run.

use std::collections::BTreeMap;

use fonex_core::accuracy::ScoreBuilder;
use fonex_core::material::Fields;
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Task};
use fonex_store::{Run, Store, TrialRecord};
use serde::Serialize;

/// One trial: what was asked, what came back, and what comparing the two counts. What is not there is left out.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct TrialLine {
    /// Number of the run.
    pub run: i64,
    /// Id of the clip.
    pub clip: String,
    /// The variant.
    pub variant: String,
    /// Its engine.
    pub engine: String,
    /// Its model.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub model: String,
    /// Its voice.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub voice: String,
    /// Which repeat, from 0.
    pub repeat: u32,
    /// How it ended.
    pub outcome: &'static str,
    /// What went wrong.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// The label, in its first reading.
    pub label: String,
    /// The same as it is compared, after the text profile.
    pub label_words: String,
    /// What was heard.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub heard: Option<String>,
    /// The same as it is compared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub heard_words: Option<String>,
    /// What was replied.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replied: Option<String>,
    /// Language of the clip.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lang: Option<String>,
    /// Speaker of the clip.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speaker: Option<String>,
    /// Tags of the clip.
    pub tags: BTreeMap<String, String>,
    /// Must-hear terms of the clip.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub terms: Vec<String>,
    /// Words of the label.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub words: Option<u64>,
    /// Words substituted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub substituted: Option<u64>,
    /// Words deleted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deleted: Option<u64>,
    /// Words inserted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub inserted: Option<u64>,
    /// Must-hear terms that were not heard.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub terms_missed: Option<u64>,
    /// Wall time of the call in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub took_ms: Option<f64>,
    /// Milliseconds until the first text or sound.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_ms: Option<f64>,
    /// Seconds of audio heard or spoken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub audio_s: Option<f64>,
    /// Path of the synthesised audio.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub audio: Option<String>,
}

impl TrialLine {
    /// Its fields, as a table has them.
    pub const COLUMNS: [&'static str; 27] = [
        "run",
        "clip",
        "variant",
        "engine",
        "model",
        "voice",
        "repeat",
        "outcome",
        "detail",
        "label",
        "label_words",
        "heard",
        "heard_words",
        "replied",
        "lang",
        "speaker",
        "tags",
        "terms",
        "words",
        "substituted",
        "deleted",
        "inserted",
        "terms_missed",
        "took_ms",
        "first_ms",
        "audio_s",
        "audio",
    ];

    /// Names that conditions know: the fields but for the tags, each of which is a name of its own, and the sum of the wrong words.
    pub(super) fn names() -> impl Iterator<Item = &'static str> {
        Self::COLUMNS.into_iter().filter(|name| *name != "tags").chain(["errors"])
    }

    /// Of a stored trial and its label. None where the label cannot be parsed: such trials are in no figure.
    #[must_use]
    pub fn of(
        store: &Store,
        run: &Run,
        record: &TrialRecord,
        clip: &Clip,
        profile: &TextProfile,
        scores: &mut ScoreBuilder,
    ) -> Option<Self> {
        let variant = &run.variants[record.key.variant];
        let label = Label::parse(&clip.text).ok()?;
        let own = profile.in_language(clip.lang.as_deref());
        let compared = |text: &str| -> String {
            let mut words = String::new();
            for token in own.tokens(text) {
                words += if words.is_empty() { "" } else { " " };
                words += &token;
            }
            words
        };
        let heard = record.heard.as_ref().filter(|_| variant.task == Task::Hear);
        let counts = (variant.task == Task::Hear).then(|| match heard.filter(|_| record.outcome.is_answer()) {
            Some(heard) => scores.hear(profile, clip, &label, heard),
            None => scores.hear_nothing(profile, &label),
        });
        let first_reading = label.first_reading();
        Some(Self {
            run: run.id,
            clip: clip.id.clone(),
            variant: variant.name.clone(),
            engine: variant.engine.clone(),
            model: variant.model.clone(),
            voice: variant.voice.clone(),
            repeat: record.key.repeat,
            outcome: record.outcome.as_str(),
            detail: record.detail.clone(),
            label_words: compared(&first_reading),
            label: first_reading,
            heard_words: heard.map(|heard| compared(&heard.text)),
            heard: heard.map(|heard| heard.text.clone()),
            replied: record.replied.clone(),
            lang: clip.lang.clone(),
            speaker: clip.speaker.clone(),
            tags: clip.tags.iter().map(|(name, value)| (name.clone(), value.clone())).collect(),
            terms: clip.terms.clone(),
            words: counts.as_ref().map(|counts| counts.words.reference()),
            substituted: counts.as_ref().map(|counts| counts.words.substituted),
            deleted: counts.as_ref().map(|counts| counts.words.deleted),
            inserted: counts.as_ref().map(|counts| counts.words.inserted),
            terms_missed: counts.as_ref().and_then(|counts| Some(counts.terms?[1])),
            took_ms: record.took_ms,
            first_ms: record.first_ms,
            audio_s: record.audio_s,
            audio: record.audio_file.as_ref().map(|name| store.audio_files().path(name).display().to_string()),
        })
    }

    fn errors(&self) -> Option<u64> {
        Some(self.substituted? + self.deleted? + self.inserted?)
    }
}

impl Fields for TrialLine {
    fn text(&self, field: &str) -> Option<String> {
        match field {
            "clip" => Some(self.clip.clone()),
            "variant" => Some(self.variant.clone()),
            "engine" => Some(self.engine.clone()),
            "model" => Some(self.model.clone()),
            "voice" => Some(self.voice.clone()),
            "outcome" => Some(self.outcome.to_owned()),
            "detail" => self.detail.clone(),
            "label" => Some(self.label.clone()),
            "label_words" => Some(self.label_words.clone()),
            "heard" => self.heard.clone(),
            "heard_words" => self.heard_words.clone(),
            "replied" => self.replied.clone(),
            "lang" => self.lang.clone(),
            "speaker" => self.speaker.clone(),
            "terms" => (!self.terms.is_empty()).then(|| self.terms.join(", ")),
            "audio" => self.audio.clone(),
            _ if Self::names().any(|name| name == field) => self.number(field).map(|number| number.to_string()),
            tag => self.tags.get(tag).cloned(),
        }
    }

    fn number(&self, field: &str) -> Option<f64> {
        let count = |count: Option<u64>| count.map(|count| count as f64);
        match field {
            "run" => Some(self.run as f64),
            "repeat" => Some(f64::from(self.repeat)),
            "words" => count(self.words),
            "substituted" => count(self.substituted),
            "deleted" => count(self.deleted),
            "inserted" => count(self.inserted),
            "errors" => count(self.errors()),
            "terms_missed" => count(self.terms_missed),
            "took_ms" => self.took_ms,
            "first_ms" => self.first_ms,
            "audio_s" => self.audio_s,
            text if Self::names().any(|name| name == text) => None,
            tag => self.tags.get(tag)?.parse().ok(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_field_is_a_column_and_a_name_of_conditions() {
        let line = TrialLine {
            run: 1,
            clip: "c".to_owned(),
            variant: "v".to_owned(),
            engine: "e".to_owned(),
            model: "m".to_owned(),
            voice: "o".to_owned(),
            repeat: 0,
            outcome: "done",
            detail: Some("d".to_owned()),
            label: "l".to_owned(),
            label_words: "l".to_owned(),
            heard: Some("h".to_owned()),
            heard_words: Some("h".to_owned()),
            replied: Some("r".to_owned()),
            lang: Some("en".to_owned()),
            speaker: Some("s".to_owned()),
            tags: BTreeMap::from([("channel".to_owned(), "till".to_owned())]),
            terms: vec!["t".to_owned()],
            words: Some(3),
            substituted: Some(1),
            deleted: Some(1),
            inserted: Some(1),
            terms_missed: Some(0),
            took_ms: Some(1.0),
            first_ms: Some(1.0),
            audio_s: Some(1.0),
            audio: Some("a".to_owned()),
        };
        let serde_json::Value::Object(fields) = serde_json::to_value(&line).unwrap() else { panic!("an object") };
        assert_eq!(fields.len(), TrialLine::COLUMNS.len());
        assert!(TrialLine::COLUMNS.iter().all(|column| fields.contains_key(*column)));
        assert!(TrialLine::names().all(|name| line.text(name).is_some()), "each has a value");
        assert_eq!((line.number("errors"), line.text("channel").as_deref()), (Some(3.0), Some("till")));
    }
}
