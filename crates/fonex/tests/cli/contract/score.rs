//! What `fonex score --format json` says.

use std::collections::BTreeMap;

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
    pub wer_as_written: Option<f64>,
    pub mean_clip_wer: Option<f64>,
    pub clips_with_errors: u64,
    pub ser: Option<f64>,
    pub missing_as_empty: Option<AllClips>,
    pub interval_by_speaker: Option<[f64; 2]>,
    pub speakers: Option<u64>,
    pub weighted: Option<Weighted>,
    pub slices: Vec<Slice>,
    pub timing: Option<Timing>,
    pub boundaries: Option<Boundaries>,
    pub marks: Option<Marks>,
    pub mistakes: Option<Mistakes>,
    pub terms: Option<Terms>,
    pub confidence: Option<Confidence>,
    pub best_of: Option<BestOf>,
    pub text_profile: String,
    pub measures: BTreeMap<String, Estimate>,
}

/// A figure of any measure.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Estimate {
    pub value: f64,
    pub interval: Option<[f64; 2]>,
    pub withheld: Option<String>,
    pub clips: u64,
    pub units: u64,
    pub rows: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mistakes {
    pub kinds: Vec<Kind>,
    pub confused: Vec<Confused>,
    pub missed: Vec<Missed>,
    pub invented: Vec<Invented>,
    pub lost_beginnings: u64,
    pub lost_ends: u64,
    pub words_over_silence: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Kind {
    pub kind: String,
    pub words: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Confused {
    pub said: String,
    pub heard: String,
    pub times: u64,
    pub kind: String,
    pub clips: Vec<String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Missed {
    pub word: String,
    pub times: u64,
    pub said: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Invented {
    pub word: String,
    pub times: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Terms {
    pub all: TermCounts,
    pub clips: ClipsWithTerms,
    pub terms: Vec<Term>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TermCounts {
    pub found: u64,
    pub missed: u64,
    pub invented: u64,
    pub precision: Option<f64>,
    pub recall: Option<f64>,
    pub f1: Option<f64>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Term {
    pub term: String,
    pub found: u64,
    pub missed: u64,
    pub invented: u64,
    pub precision: Option<f64>,
    pub recall: Option<f64>,
    pub f1: Option<f64>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Confidence {
    pub words: u64,
    pub right: f64,
    pub mean: f64,
    pub calibration_error: f64,
    pub calibration_error_with_chance: f64,
    pub brier: f64,
    pub normalised_cross_entropy: Option<f64>,
    pub roc_area: Option<f64>,
    pub thresholds: Vec<Threshold>,
    pub bins: Vec<ConfidenceBin>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Threshold {
    pub right: f64,
    pub confidence: Option<f64>,
    pub kept: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfidenceBin {
    pub from: f64,
    pub words: u64,
    pub confidence: f64,
    pub right: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BestOf {
    pub clips: u64,
    pub wer: Option<f64>,
    pub best_wer: Option<f64>,
    pub right_first: u64,
    pub right_lower: u64,
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
    pub start: Option<Offsets>,
    #[serde(default)]
    pub measures: BTreeMap<String, Estimate>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Timing {
    pub words: u64,
    pub start: Offsets,
    pub end: Option<Offsets>,
    pub duration: Option<Offsets>,
    pub offset_ms: Option<f64>,
    pub slope_ms_per_min: Option<f64>,
    pub slope_interval: Option<[f64; 2]>,
    #[serde(default)]
    pub jumps: Vec<Jump>,
    pub faults: Option<TimingFaults>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Jump {
    pub clip: String,
    pub at_s: f64,
    pub by_ms: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TimingFaults {
    pub without_times: u64,
    pub overlapping: u64,
    pub out_of_order: u64,
    pub guessed_clips: u64,
    pub interpolated_clips: u64,
    pub other_unit_clips: u64,
    pub other_unit: Option<f64>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Weighted {
    pub wer: Option<f64>,
    pub said: f64,
    pub wrong: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClipsWithTerms {
    pub clips: u64,
    pub with_all: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Marks {
    pub punctuation: Option<TermCounts>,
    #[serde(default)]
    pub signs: Vec<Sign>,
    pub capitals: Option<TermCounts>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sign {
    pub sign: char,
    pub found: u64,
    pub missed: u64,
    pub invented: u64,
    pub precision: Option<f64>,
    pub recall: Option<f64>,
    pub f1: Option<f64>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Boundaries {
    pub clips: u64,
    pub labelled: u64,
    pub heard: u64,
    pub within: Vec<BoundariesWithin>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BoundariesWithin {
    pub tolerance_s: f64,
    pub found: u64,
    pub precision: Option<f64>,
    pub recall: Option<f64>,
    pub f1: Option<f64>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Offsets {
    pub median_ms: f64,
    pub mad_ms: f64,
    pub p95_abs_ms: f64,
    pub within_20ms: f64,
    pub within_50ms: f64,
    pub within_100ms: f64,
    pub within_200ms: f64,
}
