//! From stored trials to facts, estimates, comparisons and trends: what `show`, `compare`, `trend` and `report` stand on.

mod checksum;
mod column;
mod compare;
mod depth;
mod extras;
mod facts;
mod sheet;
mod trend;
mod view;

pub use checksum::profile_checksum;
pub use column::Column;
pub use compare::{Asked, Comparison, Side, by_task, cautions, compare, takes_time, unlike_machines};
pub use depth::{ClipResult, Depth, clip_result, score_in_depth, worst};
pub use extras::{Extras, FailedTrial, Growth, LengthUnit, LivePacing, OutcomeCount, RequestSummary};
pub use facts::Facts;
pub use sheet::{Sheet, SliceKey};
pub use trend::{Break, ChangeFinding, Followed, Point, Series, follow};
pub use view::{CostSummary, MANY_TRIALS, RunView, SliceView, VariantView, Wanted};
