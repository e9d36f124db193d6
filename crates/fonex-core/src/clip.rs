//! The two records everything else is computed from: a labelled clip and what an engine heard in it.

use litemap::LiteMap;
use serde::{Deserialize, Serialize};

/// Tags by name, in the order of the names. Clips have few, and a corpus has many clips: a tree would take ten times the room.
pub type Tags = LiteMap<String, String>;

/// One labelled item of a corpus: audio and/or its text.
///
/// `text` may offer alternatives, `{going to|gonna}`, and words that may be missing, `{um|}`; see
/// [`crate::text::Label`].
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Clip {
    /// Unique in its corpus.
    pub id: String,
    /// Path of the audio, relative to the corpus file. Needed to hear a clip, not to speak it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio: Option<String>,
    /// What is said, as a person would write it.
    pub text: String,
    /// The same text with markup for a voice (SSML, W3C), which voices are given that take it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ssml: Option<String>,
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
    #[serde(default, skip_serializing_if = "LiteMap::is_empty")]
    #[schemars(with = "std::collections::BTreeMap<String, String>")]
    pub tags: Tags,
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
    /// What the clip shares with others, as (what, value): every tag, its speaker and its language. A tag that is called as
    /// a field is has `tags.` before its name; tags that only keep track of where a clip comes from are left out.
    pub fn shared(&self) -> impl Iterator<Item = (&str, &str)> {
        let named = [("speaker", &self.speaker), ("lang", &self.lang)];
        let named = named.into_iter().filter_map(|(by, value)| Some((by, value.as_deref()?)));
        let tags = self.tags.iter().filter(|(by, _)| *by != Self::VARIED_FROM && !by.starts_with(Self::ACCEPT));
        tags.map(|(by, value)| (tag_name(by), value.as_str())).chain(named)
    }

    /// Whether the clip accepts what a check says of it: by a tag `accept.CHECK` that gives the reason.
    #[must_use]
    pub fn accepts(&self, check: &str) -> bool {
        self.tags.get(&format!("{}{check}", Self::ACCEPT)).is_some_and(|reason| !reason.trim().is_empty())
    }

    /// Before the name of a check in the tag that accepts it.
    const ACCEPT: &str = "accept.";

    /// The tag of a clip whose label people cannot agree on; it gives the reason.
    pub const DISPUTED: &str = "disputed";

    /// Whether people cannot agree on its label: it is counted apart from all others.
    #[must_use]
    pub fn is_disputed(&self) -> bool {
        self.tags.contains_key(Self::DISPUTED)
    }

    /// The tag that names the clip of which one is a variation.
    pub const VARIED_FROM: &str = "varied_from";
    /// The tag with the recipe of a variation.
    pub const VARIED: &str = "varied";

    /// The id of the clip that this one is a variation of: its own where it is none.
    #[must_use]
    pub fn origin(&self) -> &str {
        self.tags.get(Self::VARIED_FROM).unwrap_or(&self.id)
    }

    /// How it was varied; none where it was not.
    #[must_use]
    pub fn recipe(&self) -> Option<&str> {
        self.tags.get(Self::VARIED).map(String::as_str).filter(|recipe| *recipe != crate::material::Recipe::UNCHANGED)
    }
}

/// What a tag is called beside fields and lengths.
fn tag_name(tag: &str) -> &str {
    match tag {
        "speaker" => "tags.speaker",
        "lang" => "tags.lang",
        "length" => "tags.length",
        other => other,
    }
}

/// One side of a recording of two channels, such as a telephone call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// The first channel.
    Left,
    /// The second channel.
    Right,
}

/// A labelled word or stretch; times are seconds from the start of the audio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
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
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Alternative {
    /// The text of this reading.
    pub text: String,
    /// The engine's confidence in it, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_that_is_called_as_a_field_is_keeps_apart_from_it() {
        let tag = |by: &str, value: &str| (by.to_owned(), value.to_owned());
        let clip = Clip {
            speaker: Some("anna".into()),
            tags: [
                tag("speaker", "loud"),
                tag("length", "short"),
                tag("wind", "strong"),
                tag("varied_from", "a"),
                tag("accept.low-level", "a whisper"),
            ]
            .into_iter()
            .collect(),
            ..Clip::default()
        };
        let shared: Vec<(&str, &str)> = clip.shared().collect();
        let expected = [("tags.length", "short"), ("tags.speaker", "loud"), ("wind", "strong"), ("speaker", "anna")];
        assert_eq!(shared, expected);
        assert!(clip.accepts("low-level") && !clip.accepts("clipping"));
    }
}
