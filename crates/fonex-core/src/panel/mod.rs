//! What listeners say in a blind panel: who hears what in which order, opinion scores, preferences, and how far they can be trusted.

mod agreement;
mod care;
mod crossed;
mod design;
mod preference;
mod scores;
mod sound;

use serde::{Deserialize, Serialize};

pub use agreement::{Concordance, agreement, concordance};
pub use care::{Careless, Conduct, correlation, judge_conduct};
pub use design::{Layout, Page, sheets};
pub use preference::{Choice, PreferenceResult, Strength, odds, preferences};
pub use scores::{MeanScore, PairResult, ScoreResult, Scored, mean_scores};
pub use sound::{drowned, low_anchor, match_sounds};

/// What listeners are asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PanelKind {
    /// One sound, rated from 1 (bad) to 5 (excellent): absolute category rating (ITU-T P.800, annex B).
    Opinion,
    /// Two sounds of one text: which is better, or no difference.
    Pairs,
    /// All sounds of one text beside an open reference, among them the reference once more and a low anchor; from 0 to 100
    /// (ITU-R BS.1534-3).
    Anchored,
}

impl PanelKind {
    /// All kinds.
    pub const ALL: [Self; 3] = [Self::Opinion, Self::Pairs, Self::Anchored];

    /// Its name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Opinion => "opinion",
            Self::Pairs => "pairs",
            Self::Anchored => "anchored",
        }
    }

    /// The least and the greatest answer. Of a pair: 0 the second, 1 the first, 0.5 no difference.
    #[must_use]
    pub const fn scale(self) -> (f64, f64) {
        match self {
            Self::Opinion => (1.0, 5.0),
            Self::Pairs => (0.0, 1.0),
            Self::Anchored => (0.0, 100.0),
        }
    }

    /// Whether an answer is one that the page can give.
    #[must_use]
    pub fn allows(self, answer: f64) -> bool {
        match self {
            Self::Opinion => [1.0, 2.0, 3.0, 4.0, 5.0].contains(&answer),
            Self::Pairs => [0.0, 0.5, 1.0].contains(&answer),
            Self::Anchored => (0.0..=100.0).contains(&answer),
        }
    }
}
