//! The JSON outputs declared a second time, independently and strictly: a field that appears, disappears or changes its
//! type fails here.

#![allow(dead_code, reason = "a field is pinned by being declared, whether a test looks at it or not")]

use serde::Deserialize;

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Score {
    pub clips: u64,
    pub missing: Vec<String>,
    #[serde(default)]
    pub unknown: Vec<String>,
    pub words: Words,
    pub characters: Characters,
    pub mean_clip_wer: Option<f64>,
    pub clips_with_errors: u64,
    pub ser: Option<f64>,
    pub missing_as_empty: Option<AllClips>,
    pub slices: Vec<Slice>,
    pub timing: Option<Timing>,
    pub text_profile: String,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Words {
    pub reference: u64,
    pub correct: u64,
    pub substituted: u64,
    pub deleted: u64,
    pub inserted: u64,
    pub wer: Option<f64>,
    pub mer: Option<f64>,
    pub wil: Option<f64>,
    pub interval: Option<[f64; 2]>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Characters {
    pub reference: u64,
    pub correct: u64,
    pub substituted: u64,
    pub deleted: u64,
    pub inserted: u64,
    pub cer: Option<f64>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AllClips {
    pub clips: u64,
    pub words: Words,
    pub characters: Characters,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Slice {
    pub by: String,
    pub value: String,
    pub clips: u64,
    pub words: Words,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Timing {
    pub words: u64,
    pub start: Offsets,
    pub end: Option<Offsets>,
    pub slope_ms_per_min: Option<f64>,
    pub slope_interval: Option<[f64; 2]>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Offsets {
    pub median_ms: f64,
    pub mad_ms: f64,
    pub p95_abs_ms: f64,
    pub within_50ms: f64,
    pub within_100ms: f64,
}

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
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trend {
    pub variant: String,
    pub slice: Option<String>,
    pub points: Vec<TrendPoint>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TrendPoint {
    pub run: i64,
    pub label: Option<String>,
    pub started_at: String,
    pub engine_version: Option<String>,
    pub clips: u64,
    pub words: u64,
    pub wer: Option<f64>,
    pub interval: Option<[f64; 2]>,
    pub change: Option<Finding>,
}
