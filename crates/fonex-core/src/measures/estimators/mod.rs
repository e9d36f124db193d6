//! The ways in which contributions become a figure. Each has its scores by unit, from which its interval, its paired test and
//! its place in a series follow.

mod area;
mod gaps;
mod linear;
mod paired;
mod quantile;
mod slope;
mod spread;

use linear::Linear;

use super::{Estimate, Sample, Withheld};
use crate::stats::{Interval, Reach, Scores, Sides, UnitKind, normal_quantile};

/// A number taken from a row.
pub type Part = fn(&[f64]) -> f64;

/// How contributions become a figure.
#[derive(Debug, Clone, Copy)]
pub enum Estimator {
    /// A ratio of two sums over rows; a mean where the second part is 1, a share where the first is 0 or 1.
    Ratio {
        /// Summed above the line.
        part: Part,
        /// Summed below it.
        whole: Part,
        /// The least and the greatest ratio of a single unit; an error rate's worst is a unit lost whole, at 1.
        bounds: (f64, f64),
        /// The greatest figure there can be.
        most: f64,
    },
    /// A smooth function of the sums of the rows' numbers that does not change when all sums are doubled; from 0 to 1.
    Smooth(fn(&[f64]) -> Option<f64>),
    /// A quantile over rows.
    Quantile(f64, Part),
    /// A median over rows. Two variants are compared by their means over the same clips, on the scale of [`Pairs`].
    Median(Part, Pairs),
    /// The mean absolute gap between a probability and what was the case, over ten bins of it: rows are probability, 0 or 1.
    Gaps,
    /// The chance that a row of kind 1 has a higher value than one of kind 0: rows are value, kind.
    Area,
    /// The standard deviation of a number over the repeats of a clip.
    Spread(Part),
    /// The standard deviation of a number over clips; repeats of a clip are taken together.
    Scatter(Part),
    /// The slope within clips: rows are seconds, milliseconds. The figure is milliseconds a minute.
    Slope,
}

/// The scale on which two medians are compared, clip by clip. Two medians can differ in one direction and the median of the
/// paired differences in the other. Means cannot: the mean of the paired differences is the difference of the means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pairs {
    /// Ratios, for times and frequencies: shows geometric means and tests the mean logarithm. Where a value is not above zero, the
    /// medians themselves are compared, like other percentiles.
    Ratios,
    /// Differences, for decibels and semitones, which are logarithms already: shows arithmetic means.
    Differences,
}

impl Estimator {
    /// Its quantile and part, if it is a quantile or median.
    const fn quantile(self) -> Option<(f64, Part)> {
        match self {
            Self::Quantile(q, of) => Some((q, of)),
            Self::Median(of, _) => Some((0.5, of)),
            _ => None,
        }
    }
}

/// The level of published intervals.
const ALPHA: f64 = 0.05;

/// The figure of a sample with its 95 % interval. None where nothing was contributed.
#[must_use]
pub fn estimate(estimator: Estimator, sample: &Sample) -> Option<Estimate> {
    estimate_at(estimator, sample, ALPHA)
}

/// The same with an interval that leaves out `alpha`.
#[must_use]
pub fn estimate_at(estimator: Estimator, sample: &Sample, alpha: f64) -> Option<Estimate> {
    let (value, interval, units) = match estimator {
        Estimator::Quantile(..) | Estimator::Median(..) => {
            let (q, of) = estimator.quantile()?;
            let (value, units) = quantile::value(sample, q, of)?;
            (value, quantile::interval(sample, q, of, alpha), units as u64)
        }
        Estimator::Slope => {
            let slope = slope::estimate(sample, alpha)?;
            (slope.value, slope.interval, slope.units)
        }
        _ => {
            let linear = linear::linear(estimator, sample)?;
            let (value, units) = (linear.estimate, linear.units());
            let (least, greatest) = linear.limits;
            let bounded = |i: Interval| Interval { low: i.low.max(least), high: i.high.min(greatest) };
            let scores = linear.scores(sample.kind);
            (value, scores.map(|scores| bounded(scores.interval(alpha, Sides::Each))), units)
        }
    };
    let withheld = Withheld::of(units, sample.kind)
        .filter(|_| !matches!(estimator, Estimator::Slope) || interval.is_none())
        .or_else(|| interval.is_none().then_some(Withheld::TooFewValues));
    Some(Estimate {
        value,
        interval: interval.filter(|_| withheld.is_none()),
        withheld,
        clips: sample.clips(),
        units,
        rows: sample.rows(),
    })
}

/// The figure of one sample, with intervals at any level.
#[derive(Debug)]
pub struct Single {
    /// The figure with its 95 % interval.
    pub estimate: Estimate,
    estimator: Estimator,
    sample: Sample,
    /// With the least and the greatest figure; none for quantiles and slopes.
    scores: Option<(Scores, (f64, f64))>,
}

impl Single {
    /// None where the sample has no value.
    #[must_use]
    pub fn new(estimator: Estimator, sample: Sample) -> Option<Self> {
        let estimate = estimate(estimator, &sample)?;
        let scores = match estimator {
            Estimator::Quantile(..) | Estimator::Median(..) | Estimator::Slope => None,
            _ => linear::linear(estimator, &sample)
                .and_then(|linear| Some((linear.scores(sample.kind)?, linear.limits)))
                .filter(|_| estimate.withheld.is_none()),
        };
        Some(Self { estimate, estimator, sample, scores })
    }

    /// The interval that leaves out `alpha` on `times` as many clips. None without enough clips.
    #[must_use]
    pub fn interval(&self, alpha: f64, times: f64) -> Option<Interval> {
        match &self.scores {
            Some((scores, limits)) => {
                let repeated = scores.clone().repeated(times).interval(alpha, Sides::Each);
                Some(Interval { low: repeated.low.max(limits.0), high: repeated.high.min(limits.1) })
            }
            None => {
                let interval = estimate_at(self.estimator, &self.sample, alpha)?.interval?;
                Some(by_the_root(self.estimate.value, interval, times))
            }
        }
    }

    /// The standard error.
    #[must_use]
    pub fn error(&self) -> Option<f64> {
        match &self.scores {
            Some((scores, _)) => Some(scores.error()),
            None => Some(error_of(self.estimate.interval?, ALPHA)),
        }
    }
}

/// The interval of a figure on `times` as many clips, where all that is known of the figure is its interval.
fn by_the_root(value: f64, interval: Interval, times: f64) -> Interval {
    let root = times.sqrt();
    Interval { low: value - (value - interval.low) / root, high: value + (interval.high - value) / root }
}

/// The standard error of a normal figure whose interval leaves out `alpha`.
fn error_of(interval: Interval, alpha: f64) -> f64 {
    (interval.high - interval.low) / 2.0 / normal_quantile(1.0 - alpha / 2.0)
}

/// The difference of two variants over the same clips, second minus first, ready to be asked at any level.
#[derive(Debug, Clone)]
pub struct Difference {
    /// The first variant's figure; of a [median](Estimator::Median) its mean over the shared clips, on the scale of [`Pairs`].
    pub first: f64,
    /// The second variant's figure, likewise.
    pub second: f64,
    /// Second minus first.
    pub difference: f64,
    /// Units of chance it stands on.
    pub units: u64,
    /// No difference can be larger: 1 for shares.
    most: f64,
    /// The largest difference a single unit can show: 1 for error rates.
    worst: f64,
    form: Form,
}

#[derive(Debug, Clone)]
enum Form {
    Scores(Scores),
    /// Scores of the logarithm of second over first.
    Ratio(Scores),
    Quantile(Box<quantile::Pair>),
}

/// Compares two samples of the same clips, place by place. None where there are fewer than two units, or a figure is missing.
#[must_use]
pub fn difference(estimator: Estimator, first: &Sample, second: &Sample) -> Option<Difference> {
    debug_assert_eq!(first.unit, second.unit, "the samples are of the same clips");
    let typical = match estimator {
        Estimator::Median(of, pairs) => paired::typical(first, second, of, pairs),
        _ => None,
    };
    if let Some(paired::Typical { first, second, scores, pairs }) = typical {
        return Some(Difference {
            first,
            second,
            difference: second - first,
            units: scores.units() as u64,
            most: f64::INFINITY,
            worst: f64::INFINITY,
            form: match pairs {
                Pairs::Ratios => Form::Ratio(scores),
                Pairs::Differences => Form::Scores(scores),
            },
        });
    }
    if let Some((q, of)) = estimator.quantile() {
        let (one, other) = (quantile::value(first, q, of)?.0, quantile::value(second, q, of)?.0);
        let pair = quantile::Pair::new(first, second, q, of)?;
        let units = pair.units();
        let form = Form::Quantile(Box::new(pair));
        return Some(Difference {
            first: one,
            second: other,
            difference: other - one,
            units,
            most: f64::INFINITY,
            worst: f64::INFINITY,
            form,
        });
    }
    let (one, other) = match estimator {
        Estimator::Slope => (slope::linear(first)?, slope::linear(second)?),
        _ => (linear::linear(estimator, first)?, linear::linear(estimator, second)?),
    };
    let scores = linear::difference(&one, &other, first.kind)?;
    Some(Difference {
        first: one.estimate,
        second: other.estimate,
        difference: scores.estimate(),
        units: scores.units() as u64,
        most: one.limits.1 - one.limits.0,
        worst: linear::range(&one, &other),
        form: Form::Scores(scores),
    })
}

impl Difference {
    /// How far a unit may lie that was not drawn, to be shared with the slices of the same comparison.
    #[must_use]
    pub const fn reach(&self) -> Option<Reach> {
        match &self.form {
            Form::Scores(scores) | Form::Ratio(scores) => Some(scores.reach()),
            Form::Quantile(_) => None,
        }
    }

    /// The same where units may lie at least as far as this.
    #[must_use]
    pub fn reaching(self, reach: Reach) -> Self {
        let wider = |scores: Scores| {
            let reach = scores.reach().wider(reach);
            scores.with_reach(reach)
        };
        let form = match self.form {
            Form::Scores(scores) => Form::Scores(wider(scores)),
            Form::Ratio(scores) => Form::Ratio(wider(scores)),
            other @ Form::Quantile(_) => other,
        };
        Self { form, ..self }
    }

    /// The interval that leaves out `alpha`; none where the units are too few for one.
    #[must_use]
    pub fn interval(&self, alpha: f64, sides: Sides) -> Option<Interval> {
        match &self.form {
            Form::Scores(scores) => {
                let Interval { low, high } = scores.interval(alpha, sides);
                Some(Interval { low: low.max(-self.most), high: high.min(self.most) })
            }
            Form::Ratio(scores) => {
                let Interval { low, high } = scores.interval(alpha, sides);
                let less = |logarithm: f64| self.first * logarithm.exp_m1();
                Some(Interval { low: less(low), high: less(high) })
            }
            Form::Quantile(pair) => pair.interval(alpha, sides),
        }
    }

    /// The interval for a gate's limit on two builds of one engine, on `times` as many clips: [`Scores::interval_of_change`].
    /// Each side leaves out `alpha` / 2.
    #[must_use]
    pub fn interval_of_change(&self, alpha: f64, times: f64) -> Option<Interval> {
        let more = self.repeated(times);
        match &more.form {
            Form::Scores(scores) if self.worst.is_finite() => {
                let Interval { low, high } = scores.interval_of_change(alpha, self.worst);
                Some(Interval { low: low.max(-self.most), high: high.min(self.most) })
            }
            Form::Quantile(_) => Some(by_the_root(self.difference, self.interval(alpha, Sides::Each)?, times)),
            _ => more.interval(alpha, Sides::Each),
        }
    }

    /// The same on `times` as many clips; of a quantile unchanged.
    fn repeated(&self, times: f64) -> Self {
        let form = match &self.form {
            Form::Scores(scores) => Form::Scores(scores.clone().repeated(times)),
            Form::Ratio(scores) => Form::Ratio(scores.clone().repeated(times)),
            other @ Form::Quantile(_) => other.clone(),
        };
        Self { form, ..*self }
    }

    /// The standard error of the difference.
    #[must_use]
    pub fn error(&self) -> Option<f64> {
        match &self.form {
            Form::Scores(scores) => Some(scores.error()),
            Form::Ratio(scores) => Some(scores.error() * self.second),
            Form::Quantile(_) => Some(error_of(self.interval(ALPHA, Sides::Each)?, ALPHA)),
        }
    }

    /// The smallest level at which the difference would be significant.
    #[must_use]
    pub fn p_value(&self) -> f64 {
        match &self.form {
            Form::Scores(scores) | Form::Ratio(scores) => scores.p_value(0.0, Sides::Together),
            Form::Quantile(pair) => pair.p_value(0.0, Sides::Together),
        }
    }

    /// Whether no unit shows a difference: nothing to test.
    #[must_use]
    pub fn is_constant(&self) -> bool {
        match &self.form {
            Form::Scores(scores) | Form::Ratio(scores) => scores.estimate() == 0.0 && scores.spread() == 0.0,
            Form::Quantile(pair) => pair.is_constant(),
        }
    }

    /// The total number of units that would detect this difference, enlarged by `errors_more` standard errors, at level `alpha`
    /// with probability `power`. None without such a difference, or above a million.
    #[must_use]
    pub fn units_to_tell(&self, alpha: f64, power: f64, errors_more: f64) -> Option<f64> {
        match &self.form {
            Form::Scores(scores) | Form::Ratio(scores) => scores.units_to_tell(alpha, power, errors_more),
            Form::Quantile(pair) => pair.scores(0.0)?.units_to_tell(alpha, power, errors_more),
        }
    }
}

/// Figures of one measure over runs of the same clips, with what each unit adds to each.
#[derive(Debug, Clone)]
pub struct SeriesScores {
    /// The figure of each run; of a [median](Estimator::Median) its mean over the shared clips, on the scale of [`Pairs`].
    pub values: Vec<f64>,
    /// What is tested: the figure itself, its logarithm ([`Pairs::Ratios`]), or the share of rows above the pooled quantile.
    pub tested: Vec<f64>,
    /// By run, then by unit: scores whose mean is what is tested.
    pub scores: Vec<Vec<f64>>,
    /// What the units are.
    pub kind: UnitKind,
    /// The largest difference between two figures of a single unit; infinite where unbounded.
    pub range: f64,
}

/// The scores of samples of the same clips, one a run. None where one of them has no figure.
#[must_use]
pub fn series_scores(estimator: Estimator, samples: &[&Sample]) -> Option<SeriesScores> {
    let kind = samples.first()?.kind;
    if let Estimator::Median(of, pairs) = estimator
        && let Some(series) = paired::series(samples, of, pairs)
    {
        return Some(series);
    }
    if let Some((q, of)) = estimator.quantile() {
        return quantile::series(samples, q, of, kind);
    }
    let linear: Vec<Linear> = samples
        .iter()
        .map(|sample| match estimator {
            Estimator::Slope => slope::linear(sample),
            _ => linear::linear(estimator, sample),
        })
        .collect::<Option<_>>()?;
    let units = linear.iter().map(|one| one.by_unit.len()).max()?;
    let present: Vec<usize> = (0..units)
        .filter(|unit| linear.iter().any(|one| one.by_unit.get(*unit).is_some_and(Option::is_some)))
        .collect();
    let values: Vec<f64> = linear.iter().map(|one| one.estimate).collect();
    let range = linear::range(&linear[0], &linear[0]);
    let total = present.len() as f64;
    let scores = linear.iter().map(|one| {
        let score = one.score_among(total);
        present.iter().map(|unit| score(*unit)).collect()
    });
    let scores = scores.collect();
    Some(SeriesScores { tested: values.clone(), values, scores, kind, range })
}

/// A sample of one number a row, from the repeats of each clip.
#[cfg(test)]
fn sample_of(clips: &[&[f64]]) -> Sample {
    let mut sample = Sample::new(1, UnitKind::Clip);
    for (unit, repeats) in (0..).zip(clips) {
        sample.add(unit, repeats.iter().map(std::slice::from_ref));
    }
    sample
}
