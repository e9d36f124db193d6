//! Statistics without a word of speech in them: scores by unit, tails, quantiles, lines, seeded random streams.

mod changed;
mod interval;
mod line;
mod map;
mod normal;
mod quantile;
mod ratio;
mod rng;
mod scores;
mod tails;
mod unseen;

pub use interval::Interval;
pub use line::{Line, line_through};
pub use map::plane_of;
pub use normal::normal_quantile;
pub use quantile::{median, quantile, quantile_sorted};
pub use ratio::{PairKind, RatioKind, ratio_difference_scores, ratio_scores};
pub use rng::{Stream, stream};
pub use scores::{Reach, Scores, Sides, UnitKind, UnitScore};
pub use tails::{share_at_most, share_bound, student_above, student_quantile, student_tail};
