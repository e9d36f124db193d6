//! One measure over many runs, each held against the one before.

use fonex_core::Clip;
use fonex_core::findings::{Finding, Measure, Question, answer};
use fonex_core::stats::{Interval, RatioTally};
use serde::Serialize;

use super::compare::error_pairs;
use super::{RunView, Side, VariantView};

/// The word error rate of one variant over runs, oldest first.
#[derive(Debug, Clone, Serialize)]
pub struct Trend {
    /// The variant.
    pub variant: String,
    /// The slice; left out for all clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slice: Option<String>,
    /// One point a run.
    pub points: Vec<TrendPoint>,
}

/// One run of a trend.
#[derive(Debug, Clone, Serialize)]
pub struct TrendPoint {
    /// Number of the run.
    pub run: i64,
    /// Its label.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// When it started.
    pub started_at: String,
    /// What the engine said its version is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub engine_version: Option<String>,
    /// Clips scored.
    pub clips: u64,
    /// Words in their labels.
    pub words: u64,
    /// Word error rate; null without words.
    pub wer: Option<f64>,
    /// Its 95 % interval.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// This run against the one before, over the clips of both; left out for the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub change: Option<Finding>,
}

/// The trend of a variant over runs that have it, oldest first. `within` chooses the clips of `slice`.
pub fn trend(
    variant: &str,
    runs: &[RunView],
    slice: Option<&str>,
    within: &dyn Fn(&Clip) -> bool,
    seed: u64,
) -> Trend {
    let sides: Vec<Side<'_>> = runs
        .iter()
        .filter_map(|run| {
            let variant = run.variants.iter().find(|v| v.variant.name == variant)?;
            Some(Side { run, variant })
        })
        .collect();
    let questions: Vec<Question> = sides
        .windows(2)
        .map(|pair| Question {
            measure: Measure::Wer,
            slice: slice.map(str::to_owned),
            pairs: error_pairs(pair[0], pair[1], within),
        })
        .collect();
    let changes = [None].into_iter().chain(answer(&questions, seed).into_iter().map(Some));
    let points = sides.iter().zip(changes).map(|(side, change)| point(side, within, seed, change)).collect();
    Trend { variant: variant.to_owned(), slice: slice.map(str::to_owned), points }
}

fn point(side: &Side<'_>, within: &dyn Fn(&Clip) -> bool, seed: u64, change: Option<Finding>) -> TrendPoint {
    let VariantView { clips, variant, .. } = side.variant;
    let mut tally = RatioTally::default();
    let (mut scored, mut words, mut errors) = (0, 0, 0);
    for clip in clips.iter().filter(|clip| side.run.labels.get(&clip.id).is_some_and(within)) {
        tally.add(clip.words.errors(), clip.words.reference());
        scored += 1;
        words += clip.words.reference();
        errors += clip.words.errors();
    }
    TrendPoint {
        run: side.run.run.id,
        label: side.run.run.label.clone(),
        started_at: side.run.run.started_at.clone(),
        engine_version: variant.engine_version.clone(),
        clips: scored,
        words,
        wer: (words > 0).then(|| errors as f64 / words as f64),
        interval: tally.interval(seed),
        change,
    }
}
