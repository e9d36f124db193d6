//! The two records everything else is computed from: a labelled clip and what an engine heard in it.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// One labelled item of a corpus: audio and/or its text.
///
/// `text` may offer alternatives, `{going to|gonna}`, and words that may be missing, `{um|}`; see
/// [`crate::text::Label`].
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Clip {
    /// Unique in its corpus.
    pub id: String,
    /// Path of the audio, relative to the corpus file. Needed to hear a clip, not to speak it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio: Option<String>,
    /// What is said, as a person would write it.
    pub text: String,
    /// Which side of a recording of two the clip is; both mixed where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
    /// BCP 47 language tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lang: Option<String>,
    /// Who speaks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speaker: Option<String>,
    /// Free data to slice by.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tags: BTreeMap<String, String>,
    /// Terms that must be heard.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub terms: Vec<String>,
    /// Labelled words with their times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<TimedWord>,
    /// Labelled stretches longer than a word, such as captions or chapters, with their times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub segments: Vec<TimedWord>,
}

impl Clip {
    /// What the clip shares with others, as (what, value): every tag, its speaker and its language.
    pub fn shared(&self) -> impl Iterator<Item = (&str, &str)> {
        let named = [("speaker", &self.speaker), ("lang", &self.lang)];
        let named = named.into_iter().filter_map(|(by, value)| Some((by, value.as_deref()?)));
        self.tags.iter().map(|(by, value)| (by.as_str(), value.as_str())).chain(named)
    }
}

/// One side of a recording of two channels, such as a telephone call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// The first channel.
    Left,
    /// The second channel.
    Right,
}

/// A labelled word or stretch; times are seconds from the start of the audio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TimedWord {
    /// What is said, as written in the label.
    pub text: String,
    /// Start in seconds.
    pub start: f64,
    /// End in seconds.
    pub end: f64,
}

/// What a recogniser gave back for one clip.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Heard {
    /// The text heard; empty when the engine heard no words.
    pub text: String,
    /// Words with optional times and confidences.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<HeardWord>,
    /// Further readings, best first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alternatives: Vec<Alternative>,
    /// Stretches longer than a word into which the engine cut the recording, with their times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub segments: Vec<TimedWord>,
    /// BCP 47 tag of the language the engine says was spoken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lang: Option<String>,
    /// The engine's confidence in the whole text, from 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
    /// Wall time the engine took, in milliseconds, where a result says so itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took_ms: Option<f64>,
}

/// A word of a recognition result.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HeardWord {
    /// The word as the engine wrote it.
    pub text: String,
    /// Start in seconds from the start of the audio.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<f64>,
    /// End in seconds from the start of the audio.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<f64>,
    /// The engine's own estimate that the word is right, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
}

/// A further reading of the same audio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Alternative {
    /// The text of this reading.
    pub text: String,
    /// The engine's confidence in it, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
}
