//! What an engine does.

use serde::{Deserialize, Serialize};

/// What an engine does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Task {
    /// Turns audio into text.
    Hear,
    /// Turns text into audio.
    Speak,
    /// Turns text into text.
    Reply,
}

impl Task {
    /// Every task, in the order tables print them.
    pub const ALL: [Self; 3] = [Self::Hear, Self::Speak, Self::Reply];

    /// The word used in files and tables.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Hear => "hear",
            Self::Speak => "speak",
            Self::Reply => "reply",
        }
    }
}
