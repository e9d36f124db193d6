//! What an incoming message means.

use fonex_core::Outcome;
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::Task;
use crate::mapping::Address;
use crate::rules::{self, Pattern};

/// What a message can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Meaning {
    /// The service takes audio now; nothing is sent before.
    Ready,
    /// Words that may still change.
    Interim,
    /// Words that stand.
    Final,
    /// The service decided that the speaker has ended.
    EndOfSpeech,
    /// A part of the sound.
    Audio,
    /// Something went wrong.
    Error,
    /// The answer is complete.
    Closed,
    /// Nothing of interest.
    Ignored,
}

/// One rule; everything that is given must hold.
#[derive(Debug, Clone, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SocketRule {
    /// A value of a JSON message; without `equals` and `matches`, that it is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<Address>,
    /// What stands there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub equals: Option<Value>,
    /// A regular expression over what stands there, or over a whole text message.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub matches: Option<Pattern>,
    /// Whether it is about binary messages.
    #[serde(default)]
    pub binary: bool,
    /// What it means.
    pub means: Meaning,
    /// For an error, what outcome it is; `broken` where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<Outcome>,
    /// For an error: the quota is used up, the variant stops.
    #[serde(default)]
    pub quota: bool,
}

/// An incoming message as rules see it.
pub(super) enum Incoming<'m> {
    Binary,
    Text(&'m str, Option<&'m Value>),
}

impl SocketRule {
    pub(super) fn fits(&self, message: &Incoming<'_>) -> bool {
        let Incoming::Text(text, json) = message else { return self.binary };
        if self.binary {
            return false;
        }
        rules::holds(self.at.as_ref(), self.equals.as_ref(), self.matches.as_ref(), *json, text)
    }
}

/// Rules that could never give an answer, or that compare nothing.
pub(super) fn check(rules: &[SocketRule], task: Task, at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
    for (i, rule) in rules.iter().enumerate() {
        let place = || at(&format!("rules[{i}]"));
        if rule.equals.is_some() && rule.at.is_none() {
            return Err(Problem::new("\"equals\" needs \"at\", the address of what it compares", place()));
        }
        if rule.binary && (rule.at.is_some() || rule.matches.is_some()) {
            return Err(Problem::new("a binary message has no text to look at", place()));
        }
        if (rule.outcome.is_some() || rule.quota) && rule.means != Meaning::Error {
            return Err(Problem::new("only an error has an outcome", place()).expected("means = \"error\""));
        }
    }
    let needed = if task == Task::Speak { Meaning::Audio } else { Meaning::Final };
    if rules.iter().any(|rule| rule.means == needed) {
        return Ok(());
    }
    let word = if task == Task::Speak { "audio" } else { "final" };
    Err(Problem::new("no rule says which message carries the result", at("rules"))
        .expected(format!("a rule with means = \"{word}\"")))
}
