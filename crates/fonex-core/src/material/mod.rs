//! The material of a test: is a corpus fit to conclude from, which clips answer a question, what makes them harder.

mod check;
mod clip_checks;
mod condition;
mod language;
mod sample;
mod texts;
mod vary;

pub use check::{Accepted, AudioFacts, Check, Complaint, CorpusCheck, Severity, TakenAudio};
pub use condition::{Condition, ConditionError, Fields};
pub use language::{Script, guess_language, primary, scripts_of_language, scripts_of_text};
pub use sample::{SplitError, split_by_speaker, stratified};
pub use texts::{Rung, SpokenText, ladder, no_longer_than, read_texts};
pub use vary::{NoiseKind, Recipe, RecipeError, STEP_FORMS, Varied, VaryStep};
