//! How a worker is described in the bench file.

use std::collections::BTreeMap;

use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};

use crate::values::{Known, variables_in};

/// How a long-lived program is started.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WorkerConfig {
    /// The program and its arguments; never passed through a shell.
    pub command: Vec<String>,
    /// Variables set in its environment; secrets go here.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Its working folder, relative to the bench file.
    #[serde(default)]
    pub folder: Option<String>,
    /// Seconds it may take to be ready.
    #[serde(default = "two_minutes")]
    pub ready_s: f64,
    /// Bare 16-bit little-endian samples of this rate come back instead of a container.
    #[serde(default)]
    pub raw_rate_hz: Option<u32>,
    /// Whether it understands `listen`: audio line by line while it is spoken.
    #[serde(default)]
    pub live: bool,
}

const fn two_minutes() -> f64 {
    120.0
}

impl WorkerConfig {
    pub(crate) fn check(&self, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if self.command.first().is_none_or(String::is_empty) {
            return Err(
                Problem::new("the command is empty", at("command")).expected("a list: the program and its arguments")
            );
        }
        let known = Known { values: &[], settings: &[], secrets: false };
        for (i, argument) in self.command.iter().enumerate() {
            known.check(argument, "the command", || at(&format!("command[{i}]")))?;
        }
        let known = Known { values: &[], settings, secrets: true };
        for (key, template) in &self.env {
            known.check(template, "the environment", || at(&format!("env.{key}")))?;
        }
        if !(self.ready_s > 0.0 && self.ready_s <= 1e6) {
            return Err(
                Problem::new(format!("ready_s is {}", self.ready_s), at("ready_s")).expected("a number above 0")
            );
        }
        Ok(())
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        self.env.values().flat_map(|template| variables_in(template)).map(str::to_owned).collect()
    }
}
