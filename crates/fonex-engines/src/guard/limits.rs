//! What a bench file sets as limits of an engine, and how often it is asked again.

use std::time::Duration;

use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};

/// How long to wait for what, how much at once, and how much an engine takes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Limits {
    /// Seconds until a connection is open.
    pub connect_s: f64,
    /// Seconds from sending until the first byte of an answer.
    pub first_byte_s: f64,
    /// Seconds an answer may stand still.
    pub idle_s: f64,
    /// Seconds for an attempt in all.
    pub total_s: f64,
    /// Requests begun each second at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requests_per_s: Option<f64>,
    /// Requests under way at the same time at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub concurrency: Option<usize>,
    /// Characters a text may have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text_characters: Option<usize>,
    /// Seconds a clip may have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub audio_s: Option<f64>,
    /// What becomes of a text that is too long.
    pub long_text: LongText,
}

/// What becomes of a text that is longer than an engine takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum LongText {
    /// It is not sent; the trial is refused.
    #[default]
    Refuse,
    /// It is cut at sentence ends, and the sound joined.
    Split,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            connect_s: 10.0,
            first_byte_s: 60.0,
            idle_s: 30.0,
            total_s: 300.0,
            requests_per_s: None,
            concurrency: None,
            text_characters: None,
            audio_s: None,
            long_text: LongText::Refuse,
        }
    }
}

impl Limits {
    pub(crate) fn connect(&self) -> Duration {
        fonex_core::latency::span(self.connect_s)
    }

    pub(crate) fn first_byte(&self) -> Duration {
        fonex_core::latency::span(self.first_byte_s)
    }

    pub(crate) fn idle(&self) -> Duration {
        fonex_core::latency::span(self.idle_s)
    }

    pub(crate) fn total(&self) -> Duration {
        fonex_core::latency::span(self.total_s)
    }

    pub(crate) fn check(&self, at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        const MOST_S: f64 = 1e6;
        // Less is none.
        const LEAST: f64 = 1e-6;
        let lengths = [
            ("connect_s", Some(self.connect_s)),
            ("first_byte_s", Some(self.first_byte_s)),
            ("idle_s", Some(self.idle_s)),
            ("total_s", Some(self.total_s)),
            ("requests_per_s", self.requests_per_s),
            ("audio_s", self.audio_s),
        ];
        for (key, value) in lengths {
            if let Some(value) = value.filter(|value| !(LEAST..=MOST_S).contains(value)) {
                return Err(Problem::new(format!("{key} is {value}"), at(key)).expected("0.000001 to 1000000"));
            }
        }
        for (key, value) in [("concurrency", self.concurrency), ("text_characters", self.text_characters)] {
            if value == Some(0) {
                return Err(Problem::new(format!("{key} is 0"), at(key)).expected("1 or more"));
            }
        }
        Ok(())
    }
}

/// When a call is tried again. Only failures after which a repeat is safe are.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Retry {
    /// Attempts in all; 1 tries nothing again.
    pub attempts: u32,
    /// Seconds before the second attempt; doubled for each further one, and shortened at random by up to half.
    pub first_wait_s: f64,
    /// The longest wait, an engine's own wish included: one that asks for more ends the trial.
    pub longest_wait_s: f64,
}

impl Default for Retry {
    fn default() -> Self {
        Self { attempts: 3, first_wait_s: 0.5, longest_wait_s: 60.0 }
    }
}

impl Retry {
    pub(crate) fn check(&self, at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if self.attempts == 0 {
            return Err(Problem::new("attempts is 0", at("attempts")).expected("1 or more"));
        }
        for (key, value) in [("first_wait_s", self.first_wait_s), ("longest_wait_s", self.longest_wait_s)] {
            if !(0.0..=1e6).contains(&value) {
                return Err(Problem::new(format!("{key} is {value}"), at(key)).expected("a number of seconds"));
            }
        }
        Ok(())
    }

    /// The wait before attempt `next` (2 is the first repeat): exponential back-off with jitter.
    pub(super) fn wait(&self, next: u32, chance: f64) -> Duration {
        let doubled = self.first_wait_s * 2_f64.powi(next.saturating_sub(2).min(30) as i32);
        fonex_core::latency::span(doubled.min(self.longest_wait_s) * (1.0 - 0.5 * chance))
    }
}
