//! A two-sided interval of an estimate.

use serde::{Deserialize, Serialize};

/// A two-sided interval of an estimate, low to high. Stored and printed as `[low, high]`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(from = "[f64; 2]", into = "[f64; 2]")]
pub struct Interval {
    /// Lower bound.
    pub low: f64,
    /// Upper bound.
    pub high: f64,
}

impl From<[f64; 2]> for Interval {
    fn from([low, high]: [f64; 2]) -> Self {
        Self { low, high }
    }
}

impl From<Interval> for [f64; 2] {
    fn from(interval: Interval) -> Self {
        [interval.low, interval.high]
    }
}

impl Interval {
    /// Half of its width.
    #[must_use]
    pub fn half_width(&self) -> f64 {
        (self.high - self.low) / 2.0
    }

    /// Whether every value in it has the same sign.
    #[must_use]
    pub fn excludes_zero(&self) -> bool {
        self.low > 0.0 || self.high < 0.0
    }

    /// Whether a value lies in it, its bounds included.
    #[must_use]
    pub fn holds(&self, value: f64) -> bool {
        self.low <= value && value <= self.high
    }
}
