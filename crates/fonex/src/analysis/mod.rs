//! From stored trials to measures: what `show`, `compare`, `trend` and `report` all stand on.

mod compare;
mod speech;
mod trend;
mod view;

pub use compare::{Comparison, Side, compare, value_of};
pub use speech::SpeechSummary;
pub use trend::{Trend, TrendPoint, trend};
pub use view::{ClipResult, RunView, VariantView};
