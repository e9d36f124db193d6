//! Error rates of what was heard against what was said.

mod best_of;
mod characters;
mod clip_score;
mod confidence;
mod confusions;
mod kinds;
mod marks;
mod mistakes;
mod one_by_one;
mod pair_kinds;
mod part;
mod rates;
mod score;
mod score_builder;
mod slices;
mod speakers;
pub mod suspects;
mod terms;
mod weights;

pub use best_of::{BestOf, BestOfBuilder};
pub use clip_score::{ClipScore, WordStep, score_clip};
pub use confidence::{ConfidenceBin, ConfidenceBuilder, ConfidenceReport, Threshold};
pub use kinds::MistakeKind;
pub use marks::{Marks, MarksBuilder, Sign};
pub use mistakes::{Confusion, InventedWord, KindCount, MissedWord, Mistakes};
pub use pair_kinds::kind_of_pair;
pub use part::ScorePart;
pub use rates::{CharacterRates, WordRates};
use score::measured;
pub use score::{AllClips, Measured, Score};
pub use score_builder::{Answered, ScoreBuilder};
pub use slices::{LENGTH, LENGTH_BANDS, Slice};
pub use terms::{ClipsWithTerms, Term, TermCounts, TermReport, TermsBuilder, TermsState};
pub use weights::{WeightedRate, WordWeights};

/// For numbers that are left out where there is nothing to tell.
pub(crate) fn is_zero(number: &u64) -> bool {
    *number == 0
}
