//! From stored trials to facts, estimates, comparisons and trends: what `show`, `compare`, `trend` and `report` stand on.

mod by_clip;
mod checksum;
mod column;
mod compare;
mod depth;
mod extras;
mod facts;
mod figures;
pub mod gate;
mod labels;
mod markup;
mod own;
pub mod panel;
mod rounds;
mod sheet;
mod sound;
mod trend;
mod view;
mod voices;

pub use checksum::profile_checksum;
pub use column::Column;
pub use compare::{Asked, Comparison, Material, Side, by_kind, cautions, comparable, compare, unlike_machines};
pub use depth::{ClipResult, clip_result, score_in_depth, worst};
pub use extras::{Extras, FailedTrial, Growth, LengthUnit, LivePacing, OutcomeCount, RequestSummary};
pub use facts::Facts;
pub use figures::{MANY_TRIALS, Wanted};
pub use own::{TrialLine, has_own};
pub use sheet::{Sheet, SliceKey};
pub use sound::{Likeness, Recordings, likeness, sound_between};
pub use trend::{Break, ChangeFinding, Followed, Point, Series, follow};
pub use view::{CostSummary, RunView, SliceView, VariantView};
pub use voices::{Natural, VoiceCard, natural};
