//! How a trial ended. Silence, misunderstanding, refusal and failure are different results and stay apart.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// How one trial ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// The engine answered with words or sound.
    Done,
    /// The engine answered that there were no words.
    Nothing,
    /// The engine says it could not understand.
    Unclear,
    /// The engine declined: quota, unsupported input, too long.
    Refused,
    /// The engine could not be started or reached.
    Unreachable,
    /// The time limit passed.
    Late,
    /// Malformed reply or crash.
    Broken,
    /// Stopped from our side before it ended.
    Stopped,
}

impl Outcome {
    /// Every outcome, in the order tables print them.
    pub const ALL: [Self; 8] = [
        Self::Done,
        Self::Nothing,
        Self::Unclear,
        Self::Refused,
        Self::Unreachable,
        Self::Late,
        Self::Broken,
        Self::Stopped,
    ];

    /// Whether the engine gave an answer that can be scored. "No words" is an answer: an empty one.
    #[must_use]
    pub const fn is_answer(self) -> bool {
        matches!(self, Self::Done | Self::Nothing)
    }

    /// The word used in files and tables.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Nothing => "nothing",
            Self::Unclear => "unclear",
            Self::Refused => "refused",
            Self::Unreachable => "unreachable",
            Self::Late => "late",
            Self::Broken => "broken",
            Self::Stopped => "stopped",
        }
    }
}

impl fmt::Display for Outcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// A word that names no outcome.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is not an outcome")]
pub struct UnknownOutcome(pub String);

impl FromStr for Outcome {
    type Err = UnknownOutcome;

    fn from_str(word: &str) -> Result<Self, Self::Err> {
        Self::ALL.into_iter().find(|o| o.as_str() == word).ok_or_else(|| UnknownOutcome(word.to_owned()))
    }
}
