//! A published figure: never without what it stands on.

use serde::{Deserialize, Serialize};

use crate::stats::{Interval, UnitKind};

/// A figure with its interval and what it stands on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Estimate {
    /// The figure.
    pub value: f64,
    /// Its 95 % interval; left out where it is withheld.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Why there is no interval.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub withheld: Option<Withheld>,
    /// Clips it stands on.
    pub clips: u64,
    /// Units of chance it stands on: clips, speakers or recordings.
    pub units: u64,
    /// Rows it stands on: trials, or words of them.
    pub rows: u64,
}

/// Why a figure has no interval.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Withheld {
    /// There is one unit only.
    OneUnit,
    /// There are fewer speakers or recordings than an interval over them needs.
    TooFewGroups,
    /// There are too few values on one side of the percentile.
    TooFewValues,
}

impl Withheld {
    /// Speakers or recordings that an interval over them needs. With fewer it holds less often than it says.
    pub const LEAST_GROUPS: u64 = 8;

    /// The reason, if this many units are too few.
    #[must_use]
    pub const fn of(units: u64, kind: UnitKind) -> Option<Self> {
        match (units, kind) {
            (0 | 1, _) => Some(Self::OneUnit),
            (units, UnitKind::Group) if units < Self::LEAST_GROUPS => Some(Self::TooFewGroups),
            _ => None,
        }
    }

    /// The reason in words.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::OneUnit => "one unit has no interval",
            Self::TooFewGroups => "fewer than 8 speakers or recordings have no interval",
            Self::TooFewValues => "too few values for an interval",
        }
    }
}
