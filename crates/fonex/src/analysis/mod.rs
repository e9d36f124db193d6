//! From stored trials to measures: what `show`, `compare`, `trend` and `report` all stand on.

mod compare;
mod exchange;
mod speech;
mod times;
mod trend;
mod view;

pub use compare::{Comparison, Side, by_task, compare, value_of};
pub use exchange::{CostSummary, ExchangeSummary};
pub use speech::SpeechSummary;
pub use times::{LengthUnit, LiveSlice, TimeSummary, lengths};
pub use trend::{Trend, TrendPoint, trend};
pub use view::{ClipResult, RunView, VariantView};
