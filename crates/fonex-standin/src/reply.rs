//! The stand-in responder: a sentence of known length after a known time.

use fonex_core::stats::stream;
use rand::RngExt;
use serde::{Deserialize, Serialize};

/// How a stand-in responder behaves.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ReplyProfile {
    /// Time taken before the first word, in milliseconds.
    pub start_ms: f64,
    /// Time taken for each word, in milliseconds.
    pub word_ms: f64,
    /// Words of a reply; one in five more or fewer.
    pub words: u32,
    /// Time taken more for each word of what the dialogue came to before, in milliseconds.
    pub earlier_word_ms: f64,
}

impl Default for ReplyProfile {
    fn default() -> Self {
        Self { start_ms: 20.0, word_ms: 2.0, words: 12, earlier_word_ms: 0.5 }
    }
}

/// What a stand-in responder answers.
#[derive(Debug, Clone, PartialEq)]
pub struct Replying {
    /// The reply.
    pub text: String,
    /// How long it takes in all, in seconds.
    pub takes_s: f64,
}

const WORDS: [&str; 24] = [
    "the", "cabin", "stays", "at", "the", "upper", "station", "until", "the", "wind", "drops", "and", "the", "next",
    "one", "leaves", "in", "four", "minutes", "from", "platform", "two", "please", "wait",
];

/// Replies to a text after this many words of a dialogue: the same seed, model and text give the same reply.
#[must_use]
pub fn reply(profile: &ReplyProfile, seed: u64, model: &str, text: &str, earlier_words: usize) -> Replying {
    let mut random = stream(seed, &["reply", model, text]);
    let spread = 0.8 + 0.4 * random.random::<f64>();
    let count = ((f64::from(profile.words) * spread).round() as usize).max(1);
    let first = random.random_range(0..WORDS.len());
    let words: Vec<&str> = WORDS.iter().cycle().skip(first).take(count).copied().collect();
    let takes_ms = profile.start_ms + profile.word_ms * count as f64 + profile.earlier_word_ms * earlier_words as f64;
    let takes_s = takes_ms / 1e3;
    Replying { text: words.join(" ") + ".", takes_s }
}
