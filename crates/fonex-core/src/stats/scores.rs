//! The uncertainty of an estimate from what each unit of chance adds to it: one method for every estimator, at any level.

use super::{Interval, exponential_sum_tail, student_quantile, student_tail};
use crate::stats::normal_quantile;

/// An estimate, split into the scores of its units: clips, speakers or recordings.
///
/// A score is the estimate plus the unit's influence on it (Hampel, "The influence curve and its role in robust estimation",
/// 1974), so that the scores' mean is the estimate; for a ratio of sums A / B a unit with parts a and b scores
/// A / B + (a - b A / B) / mean(b).
#[derive(Debug, Clone, PartialEq)]
pub struct Scores {
    estimate: f64,
    /// Distinct scores with how many units have each.
    kinds: Vec<(f64, f64)>,
    units: f64,
    spread: f64,
    skewness: f64,
    reach: Reach,
}

/// How far from the estimate the score of a unit may lie that was not drawn.
///
/// A few clips cannot show what a rare clip does: with one clip in fifty lost whole, four sets in ten of forty-five have no
/// such clip. One more unit at the reach stands for what was not seen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reach {
    /// Below the estimate.
    pub below: f64,
    /// Above it.
    pub above: f64,
}

/// What the units of chance are: it decides how far one that was not drawn may lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
pub enum UnitKind {
    /// Single clips, any of which may be lost whole.
    Clip,
    /// Speakers or recordings of several clips each; none is lost whole.
    Group,
}

impl UnitKind {
    /// With this many units off the bound, the worst seen is enough; with fewer the reach goes towards the worst there is.
    const fn enough_off(self) -> f64 {
        match self {
            Self::Clip => 12.0,
            Self::Group => 3.0,
        }
    }

    /// The least share of the way to the worst there is. For clips it is the smallest in tenths that keeps false verdicts
    /// under 5 % where one engine scatters its errors and the other loses whole clips (`benches/promises.rs`).
    const fn least_share(self) -> f64 {
        match self {
            Self::Clip => 0.6,
            Self::Group => 0.1,
        }
    }
}

/// Beyond this many distinct scores the unit that was not seen weighs nothing, and is left out.
const MOST_KINDS: usize = 20_000;

/// With this many units half of the skewness seen is believed.
const FEW_FOR_SKEWNESS: f64 = 10.0;

impl Reach {
    /// The reach of scores: the worst seen, and towards `worst` (distances below and above), the more so the fewer units
    /// are `off` the usual.
    #[must_use]
    pub fn seen(scores: &[(f64, f64)], estimate: f64, kind: UnitKind, off: f64, worst: Self) -> Self {
        let below = scores.iter().fold(0.0_f64, |most, (x, _)| most.max(estimate - x));
        let above = scores.iter().fold(0.0_f64, |most, (x, _)| most.max(x - estimate));
        let share = (1.0 - off / kind.enough_off()).clamp(kind.least_share(), 1.0);
        // Where nothing bounds a unit, the worst is taken for twice the worst seen.
        let bounded = |seen: f64, worst: f64| if worst.is_finite() { worst } else { 2.0 * seen };
        let towards = |seen: f64, known: f64| seen + (bounded(seen, known) - seen).max(0.0) * share;
        Self { below: towards(below, worst.below), above: towards(above, worst.above) }
    }

    /// The wider of two on each side.
    #[must_use]
    pub fn wider(self, other: Self) -> Self {
        Self { below: self.below.max(other.below), above: self.above.max(other.above) }
    }
}

impl Scores {
    /// From distinct scores with the number of units of each, whose mean is the estimate. None for fewer than two units.
    #[must_use]
    pub fn new(estimate: f64, mut kinds: Vec<(f64, f64)>, reach: Reach) -> Option<Self> {
        kinds.retain(|(_, m)| *m > 0.0);
        let units: f64 = kinds.iter().map(|(_, m)| m).sum();
        if units < 2.0 || !estimate.is_finite() || kinds.iter().any(|(x, _)| !x.is_finite()) {
            return None;
        }
        let moment = |power: i32| kinds.iter().map(|(x, m)| m * (x - estimate).powi(power)).sum::<f64>() / units;
        let variance = moment(2);
        let spread = (variance * units / (units - 1.0)).sqrt();
        // A skewness from few units is mostly chance: it is shrunk towards none.
        let trust = units / (units + FEW_FOR_SKEWNESS);
        let skewness = if variance > 0.0 { moment(3) / variance.powf(1.5) * trust } else { 0.0 };
        Some(Self { estimate, kinds, units, spread, skewness, reach })
    }

    /// The estimate.
    #[must_use]
    pub const fn estimate(&self) -> f64 {
        self.estimate
    }

    /// Units it stands on.
    #[must_use]
    pub const fn units(&self) -> f64 {
        self.units
    }

    /// Standard deviation of the scores: the standard error times the root of the units.
    #[must_use]
    pub const fn spread(&self) -> f64 {
        self.spread
    }

    /// The same with another reach.
    #[must_use]
    pub fn with_reach(self, reach: Reach) -> Self {
        Self { reach, ..self }
    }

    /// The same with everything moved down by `amount`.
    #[must_use]
    pub fn less(mut self, amount: f64) -> Self {
        self.estimate -= amount;
        self.kinds.iter_mut().for_each(|(score, _)| *score -= amount);
        self
    }

    /// How far a unit may lie.
    #[must_use]
    pub const fn reach(&self) -> Reach {
        self.reach
    }

    /// The interval that leaves out `alpha`: what neither of two methods excludes.
    ///
    /// The first is Student's, with the skewness of the scores taken out by Hall's monotone transformation ("On the removal
    /// of skewness by transformation", 1992). The second weighs the units, and one more at the reach, by Dirichlet weights
    /// (Rubin, "The Bayesian bootstrap", 1981; with the additional unit a bound on the mean that for shares is Clopper and
    /// Pearson's: Gaffke, "Three test statistics for a nonparametric one-sided hypothesis on the mean of a nonnegative
    /// variable", 2005), by a saddlepoint tail. Both work at any level, and nothing is drawn.
    #[must_use]
    pub fn interval(&self, alpha: f64) -> Interval {
        let student = self.student_interval(alpha);
        if self.kinds.len() > MOST_KINDS {
            return student;
        }
        Interval {
            low: student.low.min(self.bound(alpha / 2.0, false)),
            high: student.high.max(self.bound(alpha / 2.0, true)),
        }
    }

    /// The smallest level at which the interval would exclude `value`.
    #[must_use]
    pub fn p_value(&self, value: f64) -> f64 {
        let away = self.estimate - value;
        if away == 0.0 {
            return 1.0;
        }
        let error = self.error();
        let student = if error > 0.0 { student_tail(self.unskewed(away / error), self.units - 1.0) } else { 0.0 };
        if self.kinds.len() > MOST_KINDS {
            return student;
        }
        // The chance that the weighted mean lies on the other side of the value.
        student.max(2.0 * self.beyond(value, away < 0.0)).min(1.0)
    }

    fn error(&self) -> f64 {
        self.spread / self.units.sqrt()
    }

    /// Hall's transformation of a studentised distance.
    fn unskewed(&self, t: f64) -> f64 {
        let a = self.skewness / self.units.sqrt();
        t + a * (2.0 * t * t + 1.0) / 6.0 + a * a * t.powi(3) / 27.0
    }

    fn student_interval(&self, alpha: f64) -> Interval {
        let (error, quantile) = (self.error(), student_quantile(alpha, self.units - 1.0));
        Interval {
            low: self.estimate - error * self.skewed(quantile),
            high: self.estimate - error * self.skewed(-quantile),
        }
    }

    /// The inverse of [`Self::unskewed`], by bisection.
    fn skewed(&self, wanted: f64) -> f64 {
        let reach = 4.0 * wanted.abs() + 8.0;
        let (mut low, mut high) = (-reach, reach);
        for _ in 0..80 {
            let middle = f64::midpoint(low, high);
            if self.unskewed(middle) < wanted { low = middle } else { high = middle }
        }
        f64::midpoint(low, high)
    }

    /// P(weighted mean > value) with the unit at the reach above, or P(< value) with the one below.
    fn beyond(&self, value: f64, above: bool) -> f64 {
        let sign = if above { 1.0 } else { -1.0 };
        let unseen = if above { self.estimate + self.reach.above } else { self.estimate - self.reach.below };
        let mut terms: Vec<(f64, f64)> = self.kinds.iter().map(|(x, m)| (sign * (x - value), *m)).collect();
        terms.push((sign * (unseen - value), 1.0));
        exponential_sum_tail(&terms)
    }

    /// Where the weighted mean lies beyond with probability `tail`.
    fn bound(&self, tail: f64, above: bool) -> f64 {
        let reach = if above { self.reach.above } else { self.reach.below };
        let sign = if above { 1.0 } else { -1.0 };
        let (mut near, mut far) = (0.0, reach.max(self.spread) * 1.000_001);
        // Bounded by the farthest unit; the tail falls from about a half at the estimate to nothing there.
        let furthest = self.kinds.iter().map(|(x, _)| sign * (x - self.estimate)).fold(reach, f64::max);
        far = far.max(furthest);
        if far <= 0.0 {
            return self.estimate;
        }
        // In normal quantiles the tail is nearly a straight line, which a secant finds in a few steps; the bracket keeps it safe.
        let wanted = normal_quantile(tail);
        let off = |distance: f64| {
            let beyond = self.beyond(self.estimate + sign * distance, above).clamp(1e-300, 1.0 - 1e-15);
            normal_quantile(beyond) - wanted
        };
        let close = 1e-9 * furthest.max(1e-12);
        let mut last = (0.0, -wanted);
        let mut next = (-wanted * self.error()).clamp(0.0, far / 2.0);
        for _ in 0..60 {
            if next <= near || next >= far {
                next = f64::midpoint(near, far);
            }
            let seen = (next, off(next));
            if seen.1 > 0.0 {
                near = next;
            } else {
                far = next;
            }
            let slope = (seen.1 - last.1) / (seen.0 - last.0);
            let step = -seen.1 / slope;
            last = seen;
            if far - near < close || step.abs() < close / 2.0 {
                break;
            }
            next = if step.is_finite() { next + step } else { f64::midpoint(near, far) };
        }
        far = last.0.max(near);
        self.estimate + sign * far
    }

    /// Units in all with which a difference as large as the estimate would be significant at level `alpha` with
    /// probability `power`. None where no difference observed, or it would take over a million.
    ///
    /// Sought is the number with which the difference is detected even where it comes out as far below its size as it does with
    /// probability 1 - `power`, from more units like these.
    #[must_use]
    pub fn units_to_tell(&self, alpha: f64, power: f64) -> Option<f64> {
        const MOST: f64 = 1e6;
        if self.estimate == 0.0 {
            return None;
        }
        let told = |units: f64| {
            let short = normal_quantile(power) * self.spread / units.sqrt();
            let less = short.min(self.estimate.abs()).copysign(self.estimate);
            let mut more = self.clone().less(less);
            let times = units / self.units;
            more.kinds.iter_mut().for_each(|(_, m)| *m *= times);
            more.units = units;
            more.p_value(0.0) < alpha
        };
        let (mut few, mut enough) = (2.0, self.units.max(4.0));
        while !told(enough) {
            few = enough;
            enough *= 2.0;
            if enough > MOST {
                return None;
            }
        }
        while enough - few > 0.5 {
            let middle = f64::midpoint(few, enough);
            if told(middle) { enough = middle } else { few = middle }
        }
        Some(enough.ceil())
    }
}
