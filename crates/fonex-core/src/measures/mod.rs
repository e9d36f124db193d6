//! The table of measures: everything that can be shown, sliced, compared, followed over runs and gated.
//!
//! A measure is one entry of a theme under `table/`. It names the fact it is computed from (what one trial
//! contributes), the estimator that turns the facts of many trials into one figure, and the words it is printed with.
//! Intervals and tests belong to the estimators.

mod estimate;
mod estimators;
mod gathered;
mod kinds;
mod own;
mod sample;
mod table;
mod trial;
mod written;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub use estimate::{Estimate, Withheld};
pub use estimators::{
    Difference, Estimator, Pairs, SeriesScores, Single, difference, estimate, estimate_at, series_scores,
};
pub use gathered::{FactsBySet, Gathered};
pub use own::{Figure, How, OwnMeasure, OwnWords, all, own, own_line, tell_own};
pub use sample::{Sample, Units};
pub use table::ALL;
pub use trial::{HearingCounts, Trial};

use std::borrow::Cow;

use crate::Task;

/// The version of what all facts share: the places of clips, what is known beside the measures, and the form of columns. Raised
/// whenever these change, so that everything kept is computed anew. A fact alone has a version of its own ([`Fact::version`]).
pub const FACTS_VERSION: u32 = 10;

/// The version of the estimators. Raised whenever an estimate comes out otherwise, so that kept estimates are known to be stale.
pub const ESTIMATORS_VERSION: u32 = 4;

/// The least difference of a measure that matters.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Matters {
    /// An amount in the base unit of the measure.
    Amount(f64),
    /// A share of the first figure.
    Share(f64),
}

impl Matters {
    /// Converts to the base unit of the measure, given the first figure.
    #[must_use]
    pub fn from(self, first: f64) -> f64 {
        match self {
            Self::Amount(amount) => amount,
            Self::Share(share) => share * first.abs(),
        }
    }
}

/// Differences that matter by measure id, overriding the table of measures.
pub type Mattering = BTreeMap<String, Matters>;

/// One measure.
#[derive(Debug)]
pub struct Measure {
    /// What files and the command line call it, such as `wer`.
    pub id: &'static str,
    /// What tables call it.
    pub name: &'static str,
    /// What its figures are counted in.
    pub unit: Unit,
    /// Which direction is better.
    pub better: Better,
    /// The tasks it applies to.
    pub tasks: &'static [Task],
    /// What one trial contributes.
    pub fact: &'static Fact,
    /// How the contributions become a figure.
    pub estimator: Estimator,
    /// Whether `compare` asks about it when no measure is named.
    pub asked: bool,
    /// The least difference that matters, unless the bench file sets one.
    pub matters: Matters,
    /// Whether it is of something that mostly never happens, so that it is then not asked about.
    pub rare: bool,
    /// What is said of a variant whose figure is lower, and of one whose figure is higher than another's: "gets fewer words
    /// wrong than".
    pub says: [&'static str; 2],
    /// What it is computed from, in a few words.
    pub about: &'static str,
    /// It explained in a paragraph.
    pub explained: &'static str,
    /// The paper or standard it follows; empty where it is a plain count.
    pub source: &'static str,
}

/// What one trial contributes: rows of numbers.
#[derive(Debug)]
pub struct Fact {
    /// What kept facts call it.
    pub id: &'static str,
    /// Raised whenever a trial contributes other numbers than before: what is kept under another version is computed anew.
    pub version: u32,
    /// Numbers in a row.
    pub width: usize,
    /// Whether it is wall or processor time, which depends on the machine and what else it does.
    pub timed: bool,
    /// Which trials have it.
    pub of: Trials,
    /// Appends the rows of a trial; none where it has nothing to say.
    pub observe: fn(&Trial<'_>, &mut Vec<f64>),
}

impl Fact {
    /// The name under which it is kept: another for each version.
    #[must_use]
    pub fn kept_as(&self) -> Cow<'static, str> {
        match self.version {
            // As before facts had versions.
            0 => Cow::Borrowed(self.id),
            version => Cow::Owned(format!("{}@{version}", self.id)),
        }
    }

    /// Whether a trial has it, told whether it has an answer.
    #[must_use]
    pub fn is_of(&self, is_answer: bool) -> bool {
        is_answer || self.of == Trials::All
    }
}

/// Which trials a fact is taken from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trials {
    /// Those with an answer.
    Answered,
    /// All timed trials, whatever their outcome.
    All,
}

/// What figures are counted in. JSON and CSV hold the base unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// A share of a whole, printed as per cent.
    Share,
    /// Milliseconds.
    Ms,
    /// Seconds.
    S,
    /// Milliseconds for each minute of a recording.
    MsPerMinute,
    /// A plain ratio.
    Ratio,
    /// Words.
    Words,
    /// Words a minute.
    WordsPerMinute,
    /// A count for each clip.
    PerClip,
    /// Decibels.
    Db,
    /// Decibels relative to full scale.
    Dbfs,
    /// True peak in decibels relative to full scale.
    Dbtp,
    /// Loudness in LUFS.
    Lufs,
    /// Decibels an octave.
    DbPerOctave,
    /// Hertz.
    Hz,
    /// Semitones.
    Semitones,
    /// Semitones a second.
    SemitonesPerS,
    /// A count a second.
    PerSecond,
    /// KiB of memory.
    Kib,
    /// Money in the currency of the engine's prices.
    Money,
}

impl Measure {
    /// Its name in comparisons, which show means instead of [medians](Estimator::Median).
    #[must_use]
    pub fn name_compared(&self) -> &'static str {
        match self.estimator {
            Estimator::Median(..) => self.name.strip_suffix(", median").unwrap_or(self.name),
            _ => self.name,
        }
    }

    /// The least difference that matters.
    #[must_use]
    pub fn matters(&self, mattering: &Mattering) -> Matters {
        mattering.get(self.id).copied().unwrap_or(self.matters)
    }
}

impl Unit {
    /// The name in JSON and CSV.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Share => "share",
            Self::Ms => "ms",
            Self::S => "s",
            Self::MsPerMinute => "ms_per_minute",
            Self::Ratio => "ratio",
            Self::Words => "words",
            Self::WordsPerMinute => "words_per_minute",
            Self::PerClip => "per_clip",
            Self::Db => "db",
            Self::Dbfs => "dbfs",
            Self::Dbtp => "dbtp",
            Self::Lufs => "lufs",
            Self::DbPerOctave => "db_per_octave",
            Self::Hz => "hz",
            Self::Semitones => "semitones",
            Self::SemitonesPerS => "semitones_per_s",
            Self::PerSecond => "per_second",
            Self::Kib => "kib",
            Self::Money => "money",
        }
    }
}

/// Which direction is better.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Better {
    /// Lower figures are better.
    Lower,
    /// Higher figures are better.
    Higher,
    /// Neither is.
    Neither,
}

/// The measure with this id.
#[must_use]
pub fn find(id: &str) -> Option<&'static Measure> {
    all().find(|measure| measure.id == id)
}

/// The measures whose ids match a pattern, in which `*` stands for any letters.
pub fn matching<'p>(pattern: &'p str) -> impl Iterator<Item = &'static Measure> + 'p {
    all().filter(move |measure| is_like(measure.id, pattern))
}

/// Whether a name matches a pattern, in which `*` stands for any letters.
#[must_use]
pub fn is_like(name: &str, pattern: &str) -> bool {
    fits(pattern.as_bytes(), name.as_bytes())
}

/// Facts of a task, each once.
#[must_use]
pub fn facts_of(task: Task) -> Vec<&'static Fact> {
    let mut facts: Vec<&'static Fact> = Vec::new();
    for measure in ALL.iter().filter(|measure| measure.tasks.contains(&task)) {
        if facts.iter().all(|known| known.id != measure.fact.id) {
            facts.push(measure.fact);
        }
    }
    facts
}

/// The versions of some facts, without those of the first version: what a file says of the facts that it holds.
#[must_use]
pub fn versions_of(facts: &[&'static Fact]) -> BTreeMap<String, u32> {
    let above = facts.iter().filter(|fact| fact.version > 0);
    above.map(|fact| (fact.id.to_owned(), fact.version)).collect()
}

fn fits(pattern: &[u8], id: &[u8]) -> bool {
    match pattern.split_first() {
        None => id.is_empty(),
        Some((b'*', rest)) => (0..=id.len()).any(|from| fits(rest, &id[from..])),
        Some((letter, rest)) => id.split_first().is_some_and(|(first, behind)| first == letter && fits(rest, behind)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_measure_is_whole_and_has_an_id_of_its_own() {
        for (at, measure) in ALL.iter().enumerate() {
            let id = measure.id;
            // What a family shares is written once; what it must not share are these.
            let said = |measure: &Measure| [measure.id, measure.name, measure.about, measure.explained];
            let is_taken = |other: &&Measure| said(other).iter().zip(said(measure)).any(|(a, b)| *a == b);
            assert!(!ALL[..at].iter().copied().any(|other| is_taken(&other)), "{id} stands twice");
            assert!(id.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_'), "{id}");
            assert!(!measure.tasks.is_empty() && !measure.name.is_empty(), "{id}");
            assert!(measure.about.len() > 10 && measure.explained.len() > 40, "{id} is not explained");
            assert!(measure.explained.ends_with('.'), "{id}");
            assert!(measure.says.iter().all(|says| says.ends_with("than")), "{id}: {:?}", measure.says);
            let same_fact = ALL.iter().filter(|other| other.fact.id == measure.fact.id);
            assert!(same_fact.into_iter().all(|other| other.fact.width == measure.fact.width), "{id}");
        }
    }

    #[test]
    fn patterns() {
        assert!(fits(b"*", b"wer") && fits(b"latency_*", b"latency_p95") && fits(b"*_p9*", b"latency_p95"));
        assert!(!fits(b"wer", b"wer_as_written") && !fits(b"", b"wer"));
        assert_eq!(matching("wer").count(), 1);
    }
}
