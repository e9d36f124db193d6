//! The uncertainty of an estimate from what each unit of chance adds to it: one method for every estimator, at any level.

use super::changed::Changed;
use super::unseen::{Moments, Unseen};
use super::{Interval, student_quantile, student_tail};
use crate::stats::normal_quantile;

/// An estimate, split into the scores of its units: clips, speakers or recordings.
///
/// A score is the estimate plus the unit's influence on it (Hampel, "The influence curve and its role in robust estimation",
/// 1974), so that the scores' mean is the estimate; for a ratio of sums A / B a unit with parts a and b scores
/// A / B + (a - b A / B) / mean(b).
#[derive(Debug, Clone, PartialEq)]
pub struct Scores {
    estimate: f64,
    kinds: Vec<UnitScore>,
    /// Moments of the scores' distances from the estimate.
    moments: Moments,
    reach: Reach,
}

/// A score, and how many units share it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct UnitScore {
    /// The score.
    pub score: f64,
    /// The size of the unit, such as its words, over the mean size. Losing a unit half as large costs half as much. 1 where sizes
    /// do not matter.
    pub weight: f64,
    /// How many units share the score.
    pub times: f64,
}

impl UnitScore {
    /// For units of equal size.
    #[must_use]
    pub const fn new(score: f64, times: f64) -> Self {
        Self { score, weight: 1.0, times }
    }
}

/// How far from the estimate the score of a unit may lie that was not drawn.
///
/// A few clips cannot show what a rare clip does: with one clip in fifty lost whole, four sets in ten of forty-five have no
/// such clip.
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

/// How the level of an interval is shared by its sides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sides {
    /// Both sides share the level: for the claim that two variants differ. Unseen lost units can falsify such a claim on one side
    /// only, so their bound takes the whole level.
    Together,
    /// Each side leaves out half the level: for single figures, and for limits, which test one side.
    Each,
}

/// How far the reach of speakers and recordings goes from the worst seen to the worst possible. The least value, in tenths,
/// that keeps false claims under 5 % when one speaker in twenty fails (`benches/promises.rs`).
const SHARE_OF_GROUPS: f64 = 0.7;

/// The same for unbounded measures, where twice the worst seen stands in for the worst possible.
const SHARE_OF_UNBOUNDED_GROUPS: f64 = 0.1;

impl Reach {
    /// The reach of scores: for clips the `worst` possible (distances below and above), for speakers and recordings a point
    /// between the worst seen and the worst possible.
    #[must_use]
    pub fn seen(scores: &[UnitScore], estimate: f64, kind: UnitKind, worst: Self) -> Self {
        let below = scores.iter().fold(0.0_f64, |most, unit| most.max(estimate - unit.score));
        let above = scores.iter().fold(0.0_f64, |most, unit| most.max(unit.score - estimate));
        let towards = |seen: f64, worst: f64| {
            let (worst, of_groups) =
                if worst.is_finite() { (worst, SHARE_OF_GROUPS) } else { (2.0 * seen, SHARE_OF_UNBOUNDED_GROUPS) };
            let share = match kind {
                UnitKind::Clip => 1.0,
                UnitKind::Group => of_groups,
            };
            seen + (worst - seen).max(0.0) * share
        };
        Self { below: towards(below, worst.below), above: towards(above, worst.above) }
    }

    /// The reach of a difference whose units differ by at most `range`. Symmetric: either variant may have lost units.
    #[must_use]
    pub fn of_difference(scores: &[UnitScore], difference: f64, kind: UnitKind, range: f64) -> Self {
        match kind {
            UnitKind::Clip if range.is_finite() => {
                let worst = Self { below: range + difference, above: range - difference };
                Self::seen(scores, difference, kind, worst)
            }
            _ => {
                let seen = Self::seen(scores, difference, kind, Self { below: range, above: range });
                let most = seen.below.max(seen.above);
                // An unseen unit may be as far on the other side of no difference.
                let most = if range.is_finite() { most } else { most.max(2.0 * difference.abs()) };
                Self { below: most, above: most }
            }
        }
    }

    /// The wider of two on each side.
    #[must_use]
    pub fn wider(self, other: Self) -> Self {
        Self { below: self.below.max(other.below), above: self.above.max(other.above) }
    }
}

impl Scores {
    /// From the scores of units, whose mean is the estimate. None for fewer than two units.
    #[must_use]
    pub fn new(estimate: f64, mut kinds: Vec<UnitScore>, reach: Reach) -> Option<Self> {
        kinds.retain(|kind| kind.times > 0.0);
        let units: f64 = kinds.iter().map(|kind| kind.times).sum();
        if units < 2.0 || !estimate.is_finite() || kinds.iter().any(|kind| !kind.score.is_finite()) {
            return None;
        }
        let moments = Moments::of(kinds.iter().map(|kind| (kind.score - estimate, kind.times)));
        Some(Self { estimate, kinds, moments, reach })
    }

    /// The estimate.
    #[must_use]
    pub const fn estimate(&self) -> f64 {
        self.estimate
    }

    /// Units it stands on.
    #[must_use]
    pub const fn units(&self) -> f64 {
        self.moments.units
    }

    /// Standard deviation of the scores: the standard error times the root of the units.
    #[must_use]
    pub const fn spread(&self) -> f64 {
        self.moments.spread
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
        self.kinds.iter_mut().for_each(|kind| kind.score -= amount);
        self
    }

    /// The same with every unit `times` as often.
    #[must_use]
    pub fn repeated(mut self, times: f64) -> Self {
        self.kinds.iter_mut().for_each(|kind| kind.times *= times);
        self.moments.units *= times;
        self
    }

    /// The standard error of the estimate.
    #[must_use]
    pub fn error(&self) -> f64 {
        self.moments.error()
    }

    /// How far a unit may lie.
    #[must_use]
    pub const fn reach(&self) -> Reach {
        self.reach
    }

    /// The interval that leaves out `alpha`: the union of three intervals.
    ///
    /// The first is Student's; the second is Student's with the skewness of the scores taken out by Hall's monotone
    /// transformation ("On the removal of skewness by transformation", 1992); the third allows for lost units that were not seen
    /// ([`Unseen`]). All three work at any level and draw no random numbers.
    #[must_use]
    pub fn interval(&self, alpha: f64, sides: Sides) -> Interval {
        let Interval { low, high } = self.student_interval(alpha);
        let unseen = match sides {
            Sides::Together => alpha,
            Sides::Each => alpha / 2.0,
        };
        Interval {
            low: self.estimate - self.bound(self.estimate - low, unseen, false),
            high: self.estimate + self.bound(high - self.estimate, unseen, true),
        }
    }

    /// The interval for two builds of one engine, with [`Sides::Each`]; a unit can lose at most `range`.
    ///
    /// Units with equal results contribute nothing. If most are equal, the number of changed units bounds the unseen harm. Model: a
    /// changed unit loses at most a quarter of `range` on average, or as much as the worst change seen. Returns the narrower of
    /// this interval and [`Self::interval`], but never less than Student's.
    #[must_use]
    pub fn interval_of_change(&self, alpha: f64, range: f64) -> Interval {
        let plain = self.interval(alpha, Sides::Each);
        let student = self.student_interval(alpha);
        let bound = |plain: f64, student: f64, above: bool| {
            let Some(changed) = Changed::of(&self.kinds, self.estimate, range, above) else { return plain };
            let (mut inside, mut outside) = (0.0, plain);
            while outside - inside > 1e-7 * range {
                let middle = f64::midpoint(inside, outside);
                if changed.chance(middle) > alpha / 2.0 { inside = middle } else { outside = middle }
            }
            outside.max(student)
        };
        Interval { low: -bound(-plain.low, -student.low, false), high: bound(plain.high, student.high, true) }
    }

    /// The smallest level at which the interval would exclude `value`.
    #[must_use]
    pub fn p_value(&self, value: f64, sides: Sides) -> f64 {
        let away = self.estimate - value;
        if away == 0.0 {
            return 1.0;
        }
        let (error, df) = (self.moments.error(), self.moments.units - 1.0);
        let student = if error > 0.0 {
            let t = away / error;
            student_tail(t, df).max(student_tail(self.moments.unskewed(t), df))
        } else {
            0.0
        };
        let unseen = self.unseen(away < 0.0).chance(away.abs());
        let unseen = match sides {
            Sides::Together => unseen,
            Sides::Each => 2.0 * unseen,
        };
        student.max(unseen).min(1.0)
    }

    /// The union of Student's interval and Hall's.
    fn student_interval(&self, alpha: f64) -> Interval {
        let quantile = student_quantile(alpha, self.moments.units - 1.0);
        let error = self.moments.error();
        Interval {
            low: self.estimate - error * self.skewed(quantile).max(quantile),
            high: self.estimate - error * self.skewed(-quantile).min(-quantile),
        }
    }

    fn unseen(&self, above: bool) -> Unseen {
        Unseen::new(&self.kinds, self.estimate, if above { self.reach.above } else { self.reach.below }, above)
    }

    /// The inverse of Hall's transformation, by bisection.
    fn skewed(&self, wanted: f64) -> f64 {
        let reach = 4.0 * wanted.abs() + 8.0;
        let (mut low, mut high) = (-reach, reach);
        for _ in 0..80 {
            let middle = f64::midpoint(low, high);
            if self.moments.unskewed(middle) < wanted { low = middle } else { high = middle }
        }
        f64::midpoint(low, high)
    }

    /// Widens a bound at distance `near` from the estimate until unseen lost units have a p-value of at most `tail`.
    fn bound(&self, near: f64, tail: f64, above: bool) -> f64 {
        let reach = if above { self.reach.above } else { self.reach.below };
        let unseen = self.unseen(above);
        if reach <= near || unseen.chance(near) <= tail {
            return near;
        }
        // In normal quantiles the p-value is nearly a straight line, which a secant finds in a few steps; the bracket keeps it safe.
        let wanted = normal_quantile(tail);
        let off = |distance: f64| normal_quantile(unseen.chance(distance).clamp(1e-300, 1.0 - 1e-15)) - wanted;
        let close = 1e-7 * reach;
        let (mut inside, mut outside) = (near, reach);
        let mut last = (near, off(near));
        let mut next = f64::midpoint(near, (near + 0.1 * reach).min(reach));
        for _ in 0..60 {
            if next <= inside || next >= outside {
                next = f64::midpoint(inside, outside);
            }
            let seen = (next, off(next));
            if seen.1 > 0.0 {
                inside = next;
            } else {
                outside = next;
            }
            let step = -seen.1 * (seen.0 - last.0) / (seen.1 - last.1);
            last = seen;
            if outside - inside < close || step.abs() < close / 2.0 {
                break;
            }
            next = if step.is_finite() { next + step } else { f64::midpoint(inside, outside) };
        }
        last.0.max(inside)
    }

    /// The total number of units that would make the estimate, enlarged by `errors_more` standard errors, significant at level
    /// `alpha` with probability `power`. None without such a difference, or above a million.
    ///
    /// Sought is the number with which the difference is detected even where it comes out as far below its size as it does with
    /// probability 1 - `power`, from more units like these.
    #[must_use]
    pub fn units_to_tell(&self, alpha: f64, power: f64, errors_more: f64) -> Option<f64> {
        const MOST: f64 = 1e6;
        let size = self.estimate.abs() + errors_more * self.moments.error();
        if self.estimate == 0.0 || size <= 0.0 {
            return None;
        }
        let told = |units: f64| {
            let short = normal_quantile(power) * self.moments.spread / units.sqrt();
            let left = (size - short).max(0.0).copysign(self.estimate);
            let more = self.clone().less(self.estimate - left).repeated(units / self.moments.units);
            more.p_value(0.0, Sides::Together) < alpha
        };
        let (mut few, mut enough) = (2.0, self.moments.units.max(4.0));
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
