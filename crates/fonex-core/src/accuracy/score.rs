//! The score of a set of clips, as it is published.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::slices::Slice;
use super::{BestOf, CharacterRates, ConfidenceReport, Marks, Mistakes, TermReport, WeightedRate, WordRates};
use crate::Task;
use crate::measures::{ALL, Estimate, FactsBySet, Measure, all};
use crate::stats::Interval;
use crate::timing::{Boundaries, Timing};

/// What `fonex score` says; the object that `show`, `compare` and `export` build on. Absent measures are left out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Score {
    /// Clips scored.
    pub clips: u64,
    /// Ids of clips that have no result.
    pub missing: Vec<String>,
    /// Ids of results that belong to no clip.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<String>,
    /// Word rates over the clips scored.
    pub words: WordRates,
    /// Character rates over the clips scored.
    pub characters: CharacterRates,
    /// The WER of the texts as they are written, without any profile; how much the profile forgives is the difference.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wer_as_written: Option<f64>,
    /// The mean of the clips' own error rates, over clips with words. Never to be taken for the WER.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mean_clip_wer: Option<f64>,
    /// Clips that were too long and too unlike their labels to be aligned as a whole: their errors are an upper bound.
    #[serde(default, skip_serializing_if = "crate::accuracy::is_zero")]
    pub clips_in_pieces: u64,
    /// Clips with at least one wrong word.
    pub clips_with_errors: u64,
    /// Share of clips with at least one wrong word; null without clips.
    pub ser: Option<f64>,
    /// The same rates with every missing result counted as an empty one; only where results are missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing_as_empty: Option<AllClips>,
    /// The rates of clips whose labels are disputed, which are in no other figure; left out where there are none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disputed: Option<AllClips>,
    /// The interval of the WER over speakers instead of clips, where speakers have several clips each: it is the one to go
    /// by for speakers that were not recorded. Left out where every speaker has one clip, and where there are fewer than eight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_by_speaker: Option<Interval>,
    /// Speakers, where speakers have several clips each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speakers: Option<u64>,
    /// The rate with the words weighted by a project's list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weighted: Option<WeightedRate>,
    /// Rates by tag, speaker, language and length; two crossed where that was asked for.
    pub slices: Vec<Slice>,
    /// Word times against labels, where both sides have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timing: Option<Timing>,
    /// Where recordings were cut into segments, where both sides have some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boundaries: Option<Boundaries>,
    /// Punctuation and capitals, where both sides write them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub marks: Option<Marks>,
    /// What went wrong; left out where nothing did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mistakes: Option<Mistakes>,
    /// How the must-hear terms were heard, where clips list some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub terms: Option<TermReport>,
    /// Confidences against what was right, where results have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<ConfidenceReport>,
    /// What further readings were worth, where results have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_of: Option<BestOf>,
    /// Name of the text profile.
    pub text_profile: String,
    /// Every measure of hearing that the results have, by id, each with its interval over clips.
    pub measures: Measured,
}

/// Figures by the ids of their measures.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct Measured(BTreeMap<String, Estimate>);

impl Measured {
    /// The figure of a measure.
    #[must_use]
    pub fn get(&self, id: &str) -> Option<&Estimate> {
        self.0.get(id)
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Notes a figure.
    pub fn insert(&mut self, measure: &Measure, estimate: Estimate) {
        self.0.insert(measure.id.to_owned(), estimate);
    }

    /// Adds the figures of other measures.
    pub fn extend(&mut self, others: Self) {
        self.0.extend(others.0);
    }

    /// The figures with their measures, in the order of the table.
    pub fn iter(&self) -> impl Iterator<Item = (&'static Measure, &Estimate)> {
        all().filter_map(|measure| Some((measure, self.get(measure.id)?)))
    }
}

/// Every figure of a set.
pub(super) fn measured(facts: &FactsBySet, set: usize) -> Measured {
    let mut measured = Measured::default();
    for measure in hearing() {
        if let Some(estimate) = facts.estimate(measure, set) {
            measured.insert(measure, estimate);
        }
    }
    measured
}

/// The measures of hearing.
pub(super) fn hearing() -> impl Iterator<Item = &'static Measure> {
    ALL.iter().copied().filter(|measure| measure.tasks.contains(&Task::Hear))
}

impl Score {
    /// The slice of the clips that share what another slice's do.
    #[must_use]
    pub fn same_slice(&self, other: &Slice) -> Option<&Slice> {
        self.slices.iter().find(|slice| (&slice.by, &slice.value) == (&other.by, &other.value))
    }
}

/// Rates over clips that are counted otherwise than the rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct AllClips {
    /// Clips counted.
    pub clips: u64,
    /// Word rates.
    pub words: WordRates,
    /// Character rates.
    pub characters: CharacterRates,
}
