//! Error rates of what was heard against what was said.

mod clip_score;
mod rates;
mod score;

pub use clip_score::{ClipScore, WordStep, score_clip};
pub use rates::{CharacterRates, WordRates};
pub use score::{AllClips, Score, ScoreBuilder, Slice};
