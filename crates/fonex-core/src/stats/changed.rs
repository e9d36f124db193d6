//! Bounds the difference of two builds of one engine that score alike on most clips.

use super::scores::UnitScore;
use super::tails::{share_at_most, student_above};
use super::unseen::Moments;

/// The model applies while at most this share of the units changed.
const MOST_CHANGED: f64 = 0.2;

/// The largest mean harm to a changed unit, as a share of the worst possible, unless a seen change does more.
const MOST_HARM: f64 = 0.25;

/// The changed units, with the harm to each.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Changed {
    units: f64,
    /// Of the changed units.
    harms: Moments,
    most: f64,
}

impl Changed {
    /// None if too many changed. `range` is the worst possible harm to a unit.
    pub(super) fn of(kinds: &[UnitScore], estimate: f64, range: f64, above: bool) -> Option<Self> {
        let sign = if above { 1.0 } else { -1.0 };
        // Undoes the influence function: the raw difference of the unit, over the mean size.
        let harm = |kind: &UnitScore| sign * (kind.score - estimate + estimate * kind.weight);
        let close = 1e-9 * range;
        let changed = kinds.iter().map(|kind| (harm(kind), kind.times)).filter(|(harm, _)| harm.abs() > close);
        let harms = Moments::of(changed.clone());
        let units = kinds.iter().map(|kind| kind.times).sum::<f64>();
        let worst = changed.fold(0.0_f64, |worst, (harm, _)| worst.max(harm));
        let most = worst.max(MOST_HARM * range);
        (range.is_finite() && harms.units <= MOST_CHANGED * units).then_some(Self { units, harms, most })
    }

    /// The p-value of a true mean of `value`: the probability of seeing this few changes (binomial) times that of this little
    /// harm (Student), maximised over the share of units that change.
    pub(super) fn chance(&self, value: f64) -> f64 {
        const STEPS: u32 = 60;
        let Self { units, harms, most } = *self;
        let least = value / most;
        if value <= 0.0 || least >= 1.0 {
            return if value <= 0.0 { 1.0 } else { 0.0 };
        }
        let chance = |share: f64| {
            let few = share_at_most(harms.units, units, share);
            let error = harms.error();
            if harms.units < 2.0 || error <= 0.0 {
                return few;
            }
            few * student_above((value / share - harms.mean) / error, harms.units - 1.0)
        };
        // Beyond this share the binomial probability alone is negligible.
        let far = ((3.0 * harms.units + 12.0) / units).clamp(least, 1.0);
        let at = |step: u32| least + (far - least) * f64::from(step) / f64::from(STEPS);
        (0..=STEPS).map(|step| chance(at(step))).fold(0.0, f64::max)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn changed(harms: &[f64], units: usize) -> Option<Changed> {
        let mut scores = vec![0.0; units];
        scores.iter_mut().zip(harms).for_each(|(score, harm)| *score = *harm);
        let estimate = scores.iter().sum::<f64>() / units as f64;
        let kinds: Vec<UnitScore> = scores.iter().map(|score| UnitScore::new(*score, 1.0)).collect();
        Changed::of(&kinds, estimate, 1.0, true)
    }

    #[test]
    fn of_identical_builds_it_is_the_binomial_bound_at_a_quarter() {
        let none = changed(&[], 40).unwrap();
        assert!((none.chance(0.02) - 0.92_f64.powi(40)).abs() < 1e-9);
        assert!(none.chance(0.02) < 0.05, "40 clips decide a margin of 2 points");
        assert!(none.chance(0.01) > 0.05);
        assert_eq!((none.chance(0.0), none.chance(0.25)), (1.0, 0.0));
    }

    #[test]
    fn what_changed_counts_with_its_harm() {
        // One of 40 clips lost whole: changes can be that harmful, and 40 clips decide nothing.
        assert!(changed(&[1.0], 40).unwrap().chance(0.02) > 0.5);
        assert!(changed(&[0.1, -0.1, 0.1, -0.1, 0.0], 100).unwrap().chance(0.02) < 0.05);
        assert_eq!(changed(&[0.1; 21], 100), None, "more than a fifth changed");
    }
}
