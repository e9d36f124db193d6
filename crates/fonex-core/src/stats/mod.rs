//! Statistics: intervals, paired tests, corrections. All resampling is seeded; the same input gives the same bytes.

mod bootstrap;
mod compare;
mod line;
mod normal;
mod quantile;
mod rng;

pub use bootstrap::{Interval, RatioTally};
pub use compare::{PairedDifference, PairedRatio, holm, paired_median_difference, paired_ratio_test};
pub use line::{Line, line_through};
pub use normal::normal_quantile;
pub use quantile::{median, quantile, quantile_interval, quantile_sorted};
pub use rng::{Stream, stream};

/// Resamples a bootstrap or a randomisation test draws. With 4,000 the Monte Carlo error of a 95 % bound is about a
/// twentieth of the interval's half width.
pub const RESAMPLES: usize = 4_000;
