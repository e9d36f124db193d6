//! Measures of one's own: what a project measures that no table knows, defined in its bench file.
//!
//! They are told once, when the program starts, and stand behind the table's own from then on.

use std::path::PathBuf;
use std::sync::OnceLock;

use super::{ALL, Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};
use crate::Task;
use crate::material::Condition;

/// A measure of one's own.
#[derive(Debug, Clone)]
pub struct OwnMeasure {
    /// As it stands in the table.
    pub measure: &'static Measure,
    /// Where a trial's number comes from.
    pub how: How,
    /// Only trials that fulfil this have a number.
    pub of: Option<Condition>,
}

/// Where a trial's number comes from.
#[derive(Debug, Clone)]
pub enum How {
    /// 1 where a condition holds, 0 where it does not.
    Holds(Condition),
    /// A program reads trials as JSON Lines and answers with a line each: a number, `true`, `false` or `null`.
    Program {
        /// The program and its arguments.
        argv: Vec<String>,
        /// Its working folder.
        folder: PathBuf,
        /// Seconds it may take for some thousands of trials.
        time_limit_s: f64,
    },
}

/// What a measure of one's own says of itself.
#[derive(Debug, Clone)]
pub struct OwnWords {
    /// What the command line calls it.
    pub id: String,
    /// What tables call it.
    pub name: String,
    /// What it is computed from.
    pub about: String,
    /// The task whose trials it is taken from.
    pub task: Task,
    /// What its figures are counted in.
    pub unit: Unit,
    /// Which direction is better.
    pub better: Better,
    /// How trials' numbers become a figure.
    pub figure: Figure,
    /// Whether comparisons ask about it when no measure is named.
    pub asked: bool,
    /// Which trials have it.
    pub trials: Trials,
    /// SHA-256 of its definition, with the program's own files: facts are kept under it.
    pub checksum: String,
}

/// How trials' numbers become a figure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Figure {
    /// The share of trials with a 1.
    Share,
    /// The mean.
    Mean,
    /// The median.
    Median,
    /// The 95th percentile.
    P95,
}

impl Figure {
    const fn estimator(self) -> Estimator {
        match self {
            Self::Share => Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 },
            Self::Mean => Estimator::Ratio {
                part: |row| row[0],
                whole: |_| 1.0,
                bounds: (f64::NEG_INFINITY, f64::INFINITY),
                most: f64::INFINITY,
            },
            Self::Median => Estimator::Median(|row| row[0], Pairs::Ratios),
            Self::P95 => Estimator::Quantile(0.95, |row| row[0]),
        }
    }
}

/// A line of the table for a measure of one's own. It lives as long as the program.
#[must_use]
pub fn own_line(words: &OwnWords) -> &'static Measure {
    let leaked = |text: String| -> &'static str { Box::leak(text.into_boxed_str()) };
    let fact = Box::leak(Box::new(Fact {
        id: leaked(format!("own/{}/{}", words.id, words.checksum)),
        // Its name holds the checksum of its definition.
        version: 0,
        width: 1,
        timed: false,
        of: words.trials,
        // What a trial contributes is found where its texts are.
        observe: |_, _| {},
    }));
    let task = Box::leak(vec![words.task].into_boxed_slice());
    let name = leaked(words.name.clone());
    Box::leak(Box::new(Measure {
        id: leaked(words.id.clone()),
        name,
        unit: words.unit,
        better: words.better,
        tasks: task,
        fact,
        estimator: words.figure.estimator(),
        asked: words.asked,
        matters: if words.unit == Unit::Share { Matters::Amount(0.01) } else { Matters::Share(0.05) },
        rare: false,
        says: [leaked(format!("has a lower \"{name}\" than")), leaked(format!("has a higher \"{name}\" than"))],
        about: leaked(words.about.clone()),
        explained: leaked(format!("A measure of the bench file: {}.", words.about)),
        source: leaked(format!("the bench file, definition {}", &words.checksum[..words.checksum.len().min(12)])),
    }))
}

static OWN: OnceLock<Vec<OwnMeasure>> = OnceLock::new();

/// Tells of the measures of one's own, once; later calls change nothing.
pub fn tell_own(measures: Vec<OwnMeasure>) {
    // The first bench file that is read is the one the command is about.
    drop(OWN.set(measures));
}

/// The measures of one's own.
#[must_use]
pub fn own() -> &'static [OwnMeasure] {
    OWN.get().map_or(&[], Vec::as_slice)
}

/// Every measure: those of the table, and behind them those of one's own.
pub fn all() -> impl Iterator<Item = &'static Measure> {
    ALL.iter().copied().chain(own().iter().map(|own| own.measure))
}
