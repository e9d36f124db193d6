//! The JSON outputs declared a second time, independently and strictly: a field that appears, disappears or changes its
//! type fails here.

#![allow(dead_code, reason = "a field is pinned by being declared, whether a test looks at it or not")]

mod score;

use serde::Deserialize;

pub use score::{Score, TermCounts};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RunLine {
    pub run: i64,
    pub label: Option<String>,
    pub plan: String,
    pub started_at: String,
    pub state: String,
    pub variants: Vec<String>,
    pub planned: u64,
    pub trials: u64,
    pub failed: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Comparison {
    pub first: String,
    pub second: String,
    #[serde(default)]
    pub cautions: Vec<String>,
    pub findings: Vec<Finding>,
    pub first_cost: Option<serde_json::Value>,
    pub second_cost: Option<serde_json::Value>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Finding {
    pub measure: String,
    pub slice: Option<String>,
    pub clips: u64,
    pub verdict: String,
    pub first: Option<f64>,
    pub second: Option<f64>,
    pub difference: Option<f64>,
    pub interval: Option<[f64; 2]>,
    pub p_value: Option<f64>,
    pub more_clips: Option<u64>,
    pub more_clips_between: Option<(u64, Option<u64>)>,
    pub matters: Option<f64>,
    #[serde(default)]
    pub less_than_matters: bool,
    pub unit: String,
    pub units: u64,
    pub withheld: Option<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Series {
    #[serde(default)]
    pub cautions: Vec<String>,
    pub variant: String,
    pub measure: String,
    pub slice: Option<String>,
    pub points: Vec<Point>,
    pub changes: Vec<Change>,
    #[serde(default)]
    pub breaks: Vec<Break>,
    #[serde(default)]
    pub marks: Vec<Mark>,
    pub unit: String,
    pub withheld: Option<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mark {
    pub before: i64,
    pub kind: String,
    pub what: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Point {
    pub run: i64,
    pub label: Option<String>,
    pub started_at: String,
    pub commit: Option<String>,
    pub engine_version: Option<String>,
    pub clips: u64,
    pub value: Option<f64>,
    pub interval: Option<[f64; 2]>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Change {
    pub from: i64,
    pub told_by: i64,
    pub verdict: String,
    pub matters: f64,
    pub difference: f64,
    pub interval: Option<[f64; 2]>,
    pub shape: String,
    pub clips: u64,
    #[serde(default)]
    pub slices: Vec<String>,
    #[serde(default)]
    pub clips_harmed: Vec<String>,
    #[serde(default)]
    pub with: Vec<Mark>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Break {
    pub before: i64,
    pub what: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Measure {
    pub id: String,
    pub name: String,
    pub unit: String,
    pub better: String,
    pub task: Vec<String>,
    pub about: String,
    pub source: String,
    pub explained: String,
    pub compared_by_default: bool,
    pub matters: serde_json::Value,
}
