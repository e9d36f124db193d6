//! How the stand-ins of a bench file behave.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::{HearProfile, ReplyProfile, SpeakProfile};

/// Behaviour by model for recognisers and responders, by voice for synthesisers; `default` for all not named.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub enum Behaviours {
    /// A recogniser.
    Hear(BTreeMap<String, HearProfile>),
    /// A synthesiser.
    Speak(BTreeMap<String, SpeakProfile>),
    /// A responder.
    Reply(BTreeMap<String, ReplyProfile>),
}

/// The behaviour of a model or voice.
#[must_use]
pub fn profile_of<P: Clone + Default>(profiles: &BTreeMap<String, P>, key: &str) -> P {
    profiles.get(key).or_else(|| profiles.get("default")).cloned().unwrap_or_default()
}
