//! Whether a figure keeps a limit: yes, no, or not to be told, with the certainty asked for.

use serde::{Deserialize, Serialize};

use super::POWER;
use crate::measures::{Better, Difference, Measure, Single};
use crate::stats::{Interval, normal_quantile};

/// One limit of a gate.
#[derive(Debug, Clone)]
pub struct Limit {
    /// Its name in the bench file.
    pub name: String,
    /// What is limited.
    pub measure: &'static Measure,
    /// Of which variants, by a pattern in which `*` stands for any letters; none for all that have the measure.
    pub variants: Option<String>,
    /// Of which clips, as what is shared and its value; none for all.
    pub slice: Option<(String, String)>,
    /// For runs of which plan; none for all.
    pub plan: Option<String>,
    /// What is allowed.
    pub bound: Bound,
    /// The certainty asked for, such as 0.95.
    pub certainty: f64,
    /// What an undecided judgement counts as.
    pub undecided: CountsAs,
    /// What happens to a limit on times where the machine was too busy.
    pub when_busy: WhenBusy,
    /// The figure of these clips itself is held against the limit, and nothing is said of other clips.
    pub exact: bool,
}

/// What happens to a limit on times where other programs kept the machine busy or its processor was throttled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum WhenBusy {
    /// It is undecided.
    #[default]
    Undecided,
    /// It is judged, and the load is named beside the verdict.
    Warn,
    /// It is judged.
    Judge,
}

/// What a judgement comes to in the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum CountsAs {
    /// The gate may pass.
    Pass,
    /// The gate does not pass.
    Fail,
}

/// What a limit allows, in the base unit of its measure.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Bound {
    /// The figure is at most this.
    AtMost(f64),
    /// The figure is at least this.
    AtLeast(f64),
    /// Worse than the baseline by at most this; of a measure without a better direction, off it by at most this.
    WorseByAtMost(f64),
    /// Off the baseline by at most this, in either direction.
    DiffersByAtMost(f64),
}

impl Bound {
    /// Whether it is held against a baseline.
    #[must_use]
    pub const fn is_relative(self) -> bool {
        matches!(self, Self::WorseByAtMost(_) | Self::DiffersByAtMost(_))
    }

    /// The number that was written.
    #[must_use]
    pub const fn amount(self) -> f64 {
        match self {
            Self::AtMost(amount) | Self::AtLeast(amount) => amount,
            Self::WorseByAtMost(amount) | Self::DiffersByAtMost(amount) => amount,
        }
    }

    /// The figures, or differences, that keep it.
    #[must_use]
    pub const fn kept_by(self, better: Better) -> Interval {
        let (low, high) = match (self, better) {
            (Self::AtMost(limit), _) => (f64::NEG_INFINITY, limit),
            (Self::AtLeast(limit), _) => (limit, f64::INFINITY),
            (Self::WorseByAtMost(margin), Better::Lower) => (f64::NEG_INFINITY, margin),
            (Self::WorseByAtMost(margin), Better::Higher) => (-margin, f64::INFINITY),
            (Self::WorseByAtMost(margin), Better::Neither) | (Self::DiffersByAtMost(margin), _) => (-margin, margin),
        };
        Interval { low, high }
    }
}

/// Whether a limit is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kept {
    /// It is kept, with the certainty asked for.
    Pass,
    /// It is not, with the certainty asked for.
    Fail,
    /// The clips do not tell.
    Undecided,
}

impl Kept {
    /// Its name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Fail => "fail",
            Self::Undecided => "undecided",
        }
    }
}

impl Uncertain for Single {
    fn value(&self) -> f64 {
        self.estimate.value
    }

    fn interval(&self, alpha: f64, times: f64) -> Option<Interval> {
        self.interval(alpha, times)
    }

    fn error(&self) -> Option<f64> {
        self.error()
    }
}

/// As two builds of one engine.
impl Uncertain for Difference {
    fn value(&self) -> f64 {
        self.difference
    }

    fn interval(&self, alpha: f64, times: f64) -> Option<Interval> {
        self.interval_of_change(alpha, times)
    }

    fn error(&self) -> Option<f64> {
        self.error()
    }
}

/// The levels at which the limits of one gate are tested.
///
/// A gate passes when all its limits do, so that each may be passed at the whole level (an intersection-union test: Berger,
/// "Multiparameter hypothesis testing and acceptance sampling", 1982); it fails when any does, so that the level is shared
/// out over the limits (Bonferroni). A gate whose every limit is kept fails in at most `1 - certainty`; one with any limit
/// overstepped passes in at most that.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct GateLevels {
    /// The certainty asked for, such as 0.95.
    pub certainty: f64,
    /// Limits that are tested together.
    pub limits: usize,
}

impl GateLevels {
    /// What the two-sided interval that passes leaves out. Also for equivalence: both bounds are tested at the whole level
    /// (Schuirmann, "A comparison of the two one-sided tests procedure", 1987).
    #[must_use]
    pub const fn to_pass(self) -> f64 {
        2.0 * (1.0 - self.certainty)
    }

    /// What the two-sided interval that fails leaves out.
    #[must_use]
    pub fn to_fail(self, kept_by: Interval) -> f64 {
        let one_sided = kept_by.low.is_infinite() || kept_by.high.is_infinite();
        (1.0 - self.certainty) * if one_sided { 2.0 } else { 1.0 } / self.limits.max(1) as f64
    }
}

/// What is told of one limit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Judgement {
    /// Whether it is kept.
    pub kept: Kept,
    /// The interval that the judgement stands on: of an undecided one, the one that would pass.
    pub interval: Option<Interval>,
    /// How many times as many clips would decide with probability 80 %, if the figure stayed as it is. None where the limit is
    /// decided, or where the figure lies on it.
    pub more_times: Option<f64>,
}

/// A figure with its uncertainty, on these clips and on more like them.
pub trait Uncertain {
    /// The figure.
    fn value(&self) -> f64;

    /// The interval that leaves out `alpha`, on `times` as many clips. None without enough clips.
    fn interval(&self, alpha: f64, times: f64) -> Option<Interval>;

    /// The standard error on these clips.
    fn error(&self) -> Option<f64>;
}

/// Compares a figure with the values that keep the limit.
#[must_use]
pub fn judge(figure: &dyn Uncertain, kept_by: Interval, levels: GateLevels) -> Judgement {
    let undecided = Judgement { kept: Kept::Undecided, interval: None, more_times: None };
    let Some(passing) = figure.interval(levels.to_pass(), 1.0) else { return undecided };
    if keeps(passing, kept_by) {
        return Judgement { kept: Kept::Pass, interval: Some(passing), more_times: None };
    }
    let failing = figure.interval(levels.to_fail(kept_by), 1.0).unwrap_or(passing);
    if breaks(failing, kept_by) {
        return Judgement { kept: Kept::Fail, interval: Some(failing), more_times: None };
    }
    Judgement { interval: Some(passing), more_times: times_to_decide(figure, kept_by, levels), ..undecided }
}

const fn keeps(interval: Interval, kept_by: Interval) -> bool {
    interval.low >= kept_by.low && interval.high <= kept_by.high
}

const fn breaks(interval: Interval, kept_by: Interval) -> bool {
    interval.low > kept_by.high || interval.high < kept_by.low
}

/// The number of times as many clips with which the limit is decided, even where the figure comes out as much nearer to the
/// limit as it does with probability 1 - [`POWER`]. The intervals are those of the verdict, with these clips repeated.
fn times_to_decide(figure: &dyn Uncertain, kept_by: Interval, levels: GateLevels) -> Option<f64> {
    const MOST: f64 = 1e6;
    const CLOSE: f64 = 1.005;
    let (value, error) = (figure.value(), figure.error()?);
    let inside = value >= kept_by.low && value <= kept_by.high;
    let upwards = if inside { kept_by.high - value < value - kept_by.low } else { value < kept_by.low };
    let decides = |times: f64| {
        let short = normal_quantile(POWER) * error / times.sqrt() * if upwards { 1.0 } else { -1.0 };
        let level = if inside { levels.to_pass() } else { levels.to_fail(kept_by) };
        figure.interval(level, times).is_some_and(|interval| {
            let nearer = Interval { low: interval.low + short, high: interval.high + short };
            if inside { keeps(nearer, kept_by) } else { breaks(nearer, kept_by) }
        })
    };
    let (mut few, mut enough) = (1.0, 2.0);
    while !decides(enough) {
        few = enough;
        enough *= 2.0;
        if enough > MOST {
            return None;
        }
    }
    while enough > few * CLOSE {
        let middle = f64::midpoint(few, enough);
        if decides(middle) { enough = middle } else { few = middle }
    }
    Some(enough)
}

#[cfg(test)]
mod tests {
    use super::*;

    const LEVELS: GateLevels = GateLevels { certainty: 0.95, limits: 2 };

    /// A normal figure with this standard error.
    struct Normal(f64, f64);

    impl Uncertain for Normal {
        fn value(&self) -> f64 {
            self.0
        }

        fn interval(&self, alpha: f64, times: f64) -> Option<Interval> {
            let half = normal_quantile(1.0 - alpha / 2.0) * self.1 / times.sqrt();
            Some(Interval { low: self.0 - half, high: self.0 + half })
        }

        fn error(&self) -> Option<f64> {
            Some(self.1)
        }
    }

    struct NoInterval;

    impl Uncertain for NoInterval {
        fn value(&self) -> f64 {
            0.5
        }

        fn interval(&self, _: f64, _: f64) -> Option<Interval> {
            None
        }

        fn error(&self) -> Option<f64> {
            None
        }
    }

    #[test]
    fn by_hand() {
        let at_most = Bound::AtMost(0.10).kept_by(Better::Lower);
        // 1.645 standard errors to pass; with two limits 1.96 to fail.
        for (value, kept) in [
            (0.0835, Kept::Pass),
            (0.0836, Kept::Undecided),
            (0.1195, Kept::Undecided),
            (0.1197, Kept::Fail),
            (0.10, Kept::Undecided),
        ] {
            assert_eq!(judge(&Normal(value, 0.01), at_most, LEVELS).kept, kept, "{value}");
        }
        let both = Bound::DiffersByAtMost(0.02).kept_by(Better::Lower);
        // Failing on either side costs half: 2.24 standard errors.
        for (value, kept) in
            [(0.003, Kept::Pass), (0.004, Kept::Undecided), (-0.0423, Kept::Undecided), (-0.0425, Kept::Fail)]
        {
            assert_eq!(judge(&Normal(value, 0.01), both, LEVELS).kept, kept, "{value}");
        }
        assert_eq!(judge(&NoInterval, at_most, LEVELS).kept, Kept::Undecided);
    }

    #[test]
    fn worse_is_where_the_measure_says() {
        assert_eq!(Bound::WorseByAtMost(0.1).kept_by(Better::Higher), Interval { low: -0.1, high: f64::INFINITY });
        assert_eq!(Bound::WorseByAtMost(0.1).kept_by(Better::Lower), Interval { low: f64::NEG_INFINITY, high: 0.1 });
        assert_eq!(Bound::WorseByAtMost(0.1).kept_by(Better::Neither), Interval { low: -0.1, high: 0.1 });
    }

    #[test]
    fn as_many_clips_as_it_says_decide_four_times_in_five() {
        let at_most = Bound::AtMost(0.10).kept_by(Better::Lower);
        let alone = GateLevels { limits: 1, ..LEVELS };
        for value in [0.095, 0.108] {
            let times = judge(&Normal(value, 0.01), at_most, alone).more_times.unwrap();
            // One-sided at 5 %, power 80 %: the distance is (1.645 + 0.842) standard errors of so many clips.
            let error = 0.01 / times.sqrt();
            assert!(((value - 0.10_f64).abs() / error - 2.486).abs() < 0.01, "{value}: {times}");
        }
        assert_eq!(judge(&Normal(0.10, 0.01), at_most, LEVELS).more_times, None);
    }
}
