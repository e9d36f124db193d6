//! What an engine's further readings were worth: how often the right text stood lower in its list.

use serde::{Deserialize, Serialize};

use super::rates::share;
use super::score_clip;
use crate::Heard;
use crate::align::EditCounts;
use crate::text::{Label, TextProfile};

/// The best of each clip's readings, over the clips whose result has alternatives.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct BestOf {
    /// Clips with alternatives.
    pub clips: u64,
    /// Word error rate of the first readings of these clips.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wer: Option<f64>,
    /// Word error rate if the best reading of each had been given: what no choice among them can pass.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_wer: Option<f64>,
    /// Clips whose first reading was right.
    pub right_first: u64,
    /// Clips whose first reading was wrong and a further one right.
    pub right_lower: u64,
}

/// Builds a [`BestOf`].
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct BestOfBuilder {
    clips: u64,
    first: EditCounts,
    best: EditCounts,
    right_first: u64,
    right_lower: u64,
}

impl BestOfBuilder {
    /// Adds a clip; one without alternatives is passed over.
    pub(super) fn add(&mut self, profile: &TextProfile, label: &Label, heard: &Heard, first: EditCounts) {
        if heard.alternatives.is_empty() {
            return;
        }
        let further = heard.alternatives.iter().map(|reading| score_clip(profile, label, &reading.text).words);
        let best = further.fold(first, |best, words| if words.errors() < best.errors() { words } else { best });
        self.clips += 1;
        self.first += first;
        self.best += best;
        self.right_first += u64::from(first.errors() == 0);
        self.right_lower += u64::from(first.errors() > 0 && best.errors() == 0);
    }

    /// Adds what another builder gathered.
    pub fn merge(&mut self, other: &Self) {
        self.clips += other.clips;
        self.first += other.first;
        self.best += other.best;
        self.right_first += other.right_first;
        self.right_lower += other.right_lower;
    }

    /// The rates; none where no result has alternatives.
    #[must_use]
    pub fn finish(&self) -> Option<BestOf> {
        (self.clips > 0).then(|| BestOf {
            clips: self.clips,
            wer: share(self.first.errors(), self.first.reference()),
            best_wer: share(self.best.errors(), self.best.reference()),
            right_first: self.right_first,
            right_lower: self.right_lower,
        })
    }
}
