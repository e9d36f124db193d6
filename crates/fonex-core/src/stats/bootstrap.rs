//! Bootstrap intervals for a rate over clips.

use std::collections::BTreeMap;

use rand_distr::{Binomial, Distribution};
use serde::{Deserialize, Serialize};

use super::rng::Stream;
use super::{RESAMPLES, normal_quantile, quantile_sorted, stream};
use crate::Table;

/// A two-sided interval of an estimate, low to high. Stored and printed as `[low, high]`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
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
    /// The bounds that leave out `alpha` in all of the resampled values.
    pub(crate) fn of_resampled(mut values: Vec<f64>, alpha: f64) -> Option<Self> {
        values.sort_by(f64::total_cmp);
        Some(Self { low: quantile_sorted(&values, alpha / 2.0)?, high: quantile_sorted(&values, 1.0 - alpha / 2.0)? })
    }

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
}

/// Clips counted by their part of a rate (errors over words), so that a million clips fit in a few kilobytes.
#[derive(Debug, Clone, Default)]
pub struct RatioTally {
    groups: Table<[u64; 2], u64>,
}

/// With more distinct pairs than this the interval is the normal one of a ratio, which the bootstrap's then equals.
const MOST_RESAMPLED: usize = 4_000;

impl RatioTally {
    /// Counts one clip.
    pub fn add(&mut self, numerator: u64, denominator: u64) {
        *self.groups.entry([numerator, denominator]).or_default() += 1;
    }

    /// Adds what another tally counted.
    pub fn merge(&mut self, other: &Self) {
        other.groups.iter().for_each(|(numbers, size)| *self.groups.entry(*numbers).or_default() += size);
    }

    fn sorted(&self) -> Vec<([u64; 2], u64)> {
        let mut groups: Vec<([u64; 2], u64)> = self.groups.iter().map(|(numbers, size)| (*numbers, *size)).collect();
        groups.sort_unstable();
        groups
    }

    /// The mean of the clips' own ratios, over clips with a denominator.
    #[must_use]
    pub fn mean_of_ratios(&self) -> Option<f64> {
        let (mut sum, mut clips) = (0.0, 0);
        for ([numerator, denominator], size) in self.sorted().into_iter().filter(|(numbers, _)| numbers[1] > 0) {
            sum += numerator as f64 / denominator as f64 * size as f64;
            clips += size;
        }
        (clips > 0).then(|| sum / clips as f64)
    }

    /// The 95 % percentile bootstrap interval of `sum(numerators) / sum(denominators)` over clips (Efron and
    /// Tibshirani, "An Introduction to the Bootstrap", 1993; by utterance for error rates: Bisani and Ney, "Bootstrap
    /// estimates for confidence intervals in ASR performance evaluation", 2004).
    ///
    /// Where nothing was counted at all, every resample would say zero and nothing else; the upper bound is then the
    /// exact one for words that go wrong independently (Clopper and Pearson, 1934): about 3.7 / words.
    ///
    /// None for fewer than two clips, or when no clip has a denominator. Cost grows with the number of distinct pairs,
    /// not with the number of clips; above 4,000 distinct pairs the interval is the normal one of a ratio estimate
    /// (Cochran, "Sampling Techniques", 3rd edition, 1977, chapter 6), and cost is linear in them.
    #[must_use]
    pub fn interval(&self, seed: u64) -> Option<Interval> {
        self.interval_of(seed, RESAMPLES)
    }

    /// [`Self::interval`] from fewer resamples, for the many slices of a set: the Monte Carlo error of a bound is about a
    /// tenth of the half width instead of a twentieth.
    #[must_use]
    pub fn quick_interval(&self, seed: u64) -> Option<Interval> {
        self.interval_of(seed, RESAMPLES / 4)
    }

    fn interval_of(&self, seed: u64, resamples: usize) -> Option<Interval> {
        let groups = Groups::of_counted(self.sorted());
        if groups.clips < 2 {
            return None;
        }
        let totals = groups.total();
        if totals[0] == 0 && totals[1] > 0 {
            return Some(Interval { low: 0.0, high: 1.0 - 0.025_f64.powf((totals[1] as f64).recip()) });
        }
        if groups.groups.len() > MOST_RESAMPLED && totals[1] > 0 {
            return Some(groups.normal_interval(totals));
        }
        let mut random = stream(seed, &["ratio interval"]);
        let rates = (0..resamples).filter_map(|_| {
            let [numerator, denominator] = groups.resampled_sum(&mut random);
            (denominator > 0).then(|| numerator as f64 / denominator as f64)
        });
        Interval::of_resampled(rates.collect(), 0.05)
    }
}

impl Groups<2> {
    fn normal_interval(&self, [numerator, denominator]: [u64; 2]) -> Interval {
        let ratio = numerator as f64 / denominator as f64;
        let square = |[n, d]: [u64; 2]| (n as f64 - ratio * d as f64).powi(2);
        let sum: f64 = self.groups.iter().map(|(numbers, size)| square(*numbers) * *size as f64).sum();
        let clips = self.clips as f64;
        let half = normal_quantile(0.975) * (sum * clips / (clips - 1.0)).sqrt() / denominator as f64;
        Interval { low: (ratio - half).max(0.0), high: ratio + half }
    }
}

/// Clips counted by their numbers: clips alike in all of them are drawn together, so that a resample costs one draw
/// for each distinct kind of clip and not one for each clip.
pub(super) struct Groups<const K: usize> {
    pub(super) groups: Vec<([u64; K], u64)>,
    pub(super) clips: u64,
}

impl<const K: usize> Groups<K> {
    pub(super) fn of(samples: impl Iterator<Item = [u64; K]>) -> Self {
        let mut groups: BTreeMap<[u64; K], u64> = BTreeMap::new();
        for sample in samples {
            *groups.entry(sample).or_default() += 1;
        }
        Self::of_counted(groups.into_iter().collect())
    }

    fn of_counted(groups: Vec<([u64; K], u64)>) -> Self {
        let clips = groups.iter().map(|(_, size)| size).sum();
        Self { groups, clips }
    }

    /// The sums over all clips.
    pub(super) fn total(&self) -> [u64; K] {
        let mut sum = [0; K];
        self.groups.iter().for_each(|(numbers, size)| add_times(&mut sum, numbers, *size));
        sum
    }

    /// The sums over as many clips as there are, drawn with replacement: a multinomial draw over the groups, made of
    /// conditional binomial draws, which has exactly the distribution of drawing clip by clip.
    pub(super) fn resampled_sum(&self, random: &mut Stream) -> [u64; K] {
        let mut sum = [0; K];
        let (mut to_draw, mut clips_left) = (self.clips, self.clips);
        for (numbers, size) in &self.groups {
            if to_draw == 0 {
                break;
            }
            let drawn = if *size == clips_left {
                to_draw
            } else {
                let share = *size as f64 / clips_left as f64;
                Binomial::new(to_draw, share).expect("a share of clips lies in 0..1").sample(random)
            };
            add_times(&mut sum, numbers, drawn);
            to_draw -= drawn;
            clips_left -= size;
        }
        sum
    }
}

pub(super) fn add_times<const K: usize>(sum: &mut [u64; K], numbers: &[u64; K], times: u64) {
    for (total, number) in sum.iter_mut().zip(numbers) {
        *total += number * times;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::RngExt;

    fn interval(pairs: &[(u64, u64)], seed: u64) -> Option<Interval> {
        let mut tally = RatioTally::default();
        pairs.iter().for_each(|&(numerator, denominator)| tally.add(numerator, denominator));
        tally.interval(seed)
    }

    #[test]
    fn interval_is_that_of_drawing_clip_by_clip() {
        let clips: Vec<(u64, u64)> = (0..60).map(|i| (i % 4, 6 + i % 5)).collect();
        let fast = interval(&clips, 3).unwrap();
        let mut random = stream(4, &["oracle"]);
        let rates = (0..20_000).map(|_| {
            let (mut n, mut d) = (0, 0);
            for _ in 0..clips.len() {
                let (numerator, denominator) = clips[random.random_range(0..clips.len())];
                n += numerator;
                d += denominator;
            }
            n as f64 / d as f64
        });
        let slow = Interval::of_resampled(rates.collect(), 0.05).unwrap();
        assert!((fast.low - slow.low).abs() < 0.006 && (fast.high - slow.high).abs() < 0.006, "{fast:?} {slow:?}");
    }

    #[test]
    fn many_kinds_of_clips_give_the_interval_that_resampling_them_gives() {
        let clips: Vec<(u64, u64)> = (0..6_000).map(|i| (i * 7919 % 301, 1_000 + i)).collect();
        let fast = interval(&clips, 1).unwrap();
        let groups = Groups::of(clips.iter().map(|&(n, d)| [n, d]));
        let mut random = stream(2, &["oracle"]);
        let rates = (0..1_000).map(|_| groups.resampled_sum(&mut random)).map(|[n, d]| n as f64 / d as f64);
        let slow = Interval::of_resampled(rates.collect(), 0.05).unwrap();
        let width = slow.high - slow.low;
        assert!((fast.low - slow.low).abs() < width / 10.0 && (fast.high - slow.high).abs() < width / 10.0);
    }

    #[test]
    fn no_interval_where_there_is_nothing_to_estimate() {
        assert_eq!(interval(&[(1, 5)], 0), None);
        assert_eq!(interval(&[(1, 0), (2, 0)], 0), None);
        let flawless = interval(&[(0, 10); 10], 0).unwrap();
        assert!(flawless.low == 0.0 && (flawless.high - 0.0362).abs() < 1e-4, "{flawless:?}");
        let same = interval(&[(1, 5); 30], 0).unwrap();
        assert_eq!((same.low, same.high), (0.2, 0.2));
    }
}
