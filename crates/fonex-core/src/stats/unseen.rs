//! Bounds a mean against rare lost units that the sample may not contain.

use super::scores::UnitScore;
use super::tails::{share_at_most, student_above};

/// A unit counts as lost from this share of the reach on.
const FAR: f64 = 0.5;

/// A small unit also counts as lost if it loses this share of its own possible loss.
const FAR_FOR_ITS_SIZE: f64 = 0.75;

/// The number of units at which the sample skewness is halved.
const FEW_FOR_SKEWNESS: f64 = 10.0;

/// Number, mean, standard deviation and skewness of distances.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Moments {
    pub(super) units: f64,
    pub(super) mean: f64,
    pub(super) spread: f64,
    pub(super) skewness: f64,
}

impl Moments {
    /// From distances, each with its number of units.
    pub(super) fn of(distances: impl Iterator<Item = (f64, f64)> + Clone) -> Self {
        let (units, sum) = distances.clone().fold((0.0, 0.0), |(n, sum), (x, m)| (n + m, sum + m * x));
        let mean = if units > 0.0 { sum / units } else { 0.0 };
        let (squares, cubes) =
            distances.fold((0.0, 0.0), |(a, b), (x, m)| (a + m * (x - mean).powi(2), b + m * (x - mean).powi(3)));
        let variance = if units > 0.0 { squares / units } else { 0.0 };
        let spread = if units > 1.0 { (squares / (units - 1.0)).sqrt() } else { 0.0 };
        // The skewness of few units is mostly noise: shrink it.
        let trust = units / (units + FEW_FOR_SKEWNESS);
        let skewness = if variance > 0.0 { cubes / units / variance.powf(1.5) * trust } else { 0.0 };
        Self { units, mean, spread, skewness }
    }

    pub(super) fn error(&self) -> f64 {
        self.spread / self.units.sqrt()
    }

    /// Hall's transformation of a studentised distance ("On the removal of skewness by transformation", 1992).
    pub(super) fn unskewed(&self, t: f64) -> f64 {
        let a = self.skewness / self.units.sqrt();
        t + a * (2.0 * t * t + 1.0) / 6.0 + a * a * t.powi(3) / 27.0
    }
}

/// Units split into those lost on one side of the estimate and the others, which scatter.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Unseen {
    lost: f64,
    /// Moments of the other units' distances from the estimate, positive away from the lost side.
    others: Moments,
    /// How far from the estimate a lost unit lies.
    reach: f64,
}

impl Unseen {
    /// Splits the units. A lost unit lies `reach` above the estimate, or below it.
    pub(super) fn new(kinds: &[UnitScore], estimate: f64, reach: f64, above: bool) -> Self {
        let towards = |kind: &UnitScore| if above { kind.score - estimate } else { estimate - kind.score };
        let is_lost = |kind: &UnitScore| {
            let distance = towards(kind);
            reach > 0.0 && (distance >= FAR * reach || distance >= FAR_FOR_ITS_SIZE * reach * kind.weight)
        };
        let lost = kinds.iter().filter(|kind| is_lost(kind)).map(|kind| kind.times).sum();
        let others = kinds.iter().filter(|kind| !is_lost(kind)).map(|kind| (-towards(kind), kind.times));
        Self { lost, others: Moments::of(others), reach }
    }

    /// The p-value of a true mean that lies `away` from the estimate on the side of lost units.
    ///
    /// A share q of lost units fixes where the mean of the others must lie. The p-value for q multiplies two independent
    /// probabilities: that at most the seen number of units is lost (binomial), and that the others lie this far off (Student,
    /// after Hall's transformation). The result is the maximum over q. Averaging over q instead, as Dirichlet weights with one
    /// additional unit do (Gaffke 2005), is larger and needs 1.4 to 1.6 times as many clips. Cost: about 40 tail evaluations.
    pub(super) fn chance(&self, away: f64) -> f64 {
        const STEPS: u32 = 24;
        let Self { lost, others, reach } = *self;
        if others.units <= 0.0 || reach <= 0.0 {
            return if reach <= away { 0.0 } else { 1.0 };
        }
        if away >= reach {
            return 0.0;
        }
        let (units, error) = (lost + others.units, others.error());
        // The share at which the others lie exactly where they were seen.
        let explained = ((away + others.mean) / (reach + others.mean)).clamp(0.0, 1.0);
        let chance = |share: f64| {
            let off = (1.0 - share) * (away + others.mean) - share * (reach - away);
            let beside = if error > 0.0 && share < 1.0 {
                student_above(others.unskewed(off / (error * (1.0 - share))), others.units - 1.0)
            } else if off > 1e-12 * reach {
                0.0
            } else {
                1.0
            };
            if beside <= 0.0 { 0.0 } else { beside * share_at_most(lost, units, share) }
        };
        let most = (explained + 4.0 * error / (reach + others.mean) + (lost + 3.0) / units).min(1.0);
        let at = |step: f64| most * step / f64::from(STEPS);
        let (mut best, mut greatest) = (explained, chance(explained));
        for step in 0..=STEPS {
            let share = at(f64::from(step));
            let own = chance(share);
            if own > greatest {
                (best, greatest) = (share, own);
            }
        }
        // Unimodal: golden-section search around the best grid point.
        let golden = (5.0_f64.sqrt() - 1.0) / 2.0;
        let (mut low, mut high) = ((best - at(1.0)).max(0.0), (best + at(1.0)).min(1.0));
        let inner = |low: f64, high: f64| [high - golden * (high - low), low + golden * (high - low)];
        let [mut left, mut right] = inner(low, high);
        let (mut of_left, mut of_right) = (chance(left), chance(right));
        for _ in 0..12 {
            greatest = greatest.max(of_left).max(of_right);
            if of_left > of_right {
                (high, right, of_right) = (right, left, of_left);
                left = inner(low, high)[0];
                of_left = chance(left);
            } else {
                (low, left, of_left) = (left, right, of_right);
                right = inner(low, high)[1];
                of_right = chance(right);
            }
        }
        greatest.max(of_left).max(of_right)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn units(scores: &[f64]) -> Vec<UnitScore> {
        scores.iter().map(|score| UnitScore::new(*score, 1.0)).collect()
    }

    /// Identical units leave only the binomial: none of n lost.
    #[test]
    fn without_scatter_it_is_the_binomial_bound() {
        let unseen = Unseen::new(&units(&[0.1; 40]), 0.1, 0.9, true);
        for away in [0.01, 0.05, 0.2] {
            let share: f64 = away / 0.9;
            assert!((unseen.chance(away) / (1.0 - share).powi(40) - 1.0).abs() < 1e-6, "{away}");
        }
        assert_eq!((unseen.chance(0.9), unseen.chance(0.95)), (0.0, 0.0), "nothing lies beyond the worst");
    }

    /// A slow search over a fine grid finds the same maximum.
    #[test]
    fn the_greatest_chance_is_found() {
        let scores: Vec<f64> = (0..60).map(|at| f64::from(at % 7) * 0.03 + if at < 2 { -0.9 } else { 0.0 }).collect();
        let estimate = scores.iter().sum::<f64>() / 60.0;
        let unseen = Unseen::new(&units(&scores), estimate, 1.0, false);
        assert_eq!(unseen.lost, 2.0);
        for away in [0.02, 0.05, 0.1, 0.3] {
            let Unseen { lost, others, reach } = unseen;
            let chance = |share: f64| {
                let off = (1.0 - share) * (away + others.mean) - share * (reach - away);
                let t = others.unskewed(off / (others.error() * (1.0 - share)));
                share_at_most(lost, 60.0, share) * student_above(t, others.units - 1.0)
            };
            let slow = (0..100_000).map(|at| chance(f64::from(at) / 100_000.0)).fold(0.0, f64::max);
            let found = unseen.chance(away);
            assert!(found <= slow * 1.000_1 && found >= slow * 0.999, "{away}: {found} {slow}");
        }
    }

    #[test]
    fn a_short_clip_that_is_lost_counts_as_lost() {
        let short = UnitScore { score: 0.3, weight: 0.3, times: 1.0 };
        let mut all = units(&[0.0; 20]);
        all.push(short);
        assert_eq!(Unseen::new(&all, 0.0, 1.0, true).lost, 1.0);
        all[20].weight = 1.0;
        assert_eq!(Unseen::new(&all, 0.0, 1.0, true).lost, 0.0);
    }
}
