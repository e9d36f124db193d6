//! What a corpus can tell at all, before anything is run on it.

use crate::stats::{Reach, Scores, Sides, UnitKind, UnitScore, normal_quantile};

/// The power to plan with, as if scores were normal. Real scores are skewed, and some clips look lost by chance: the simulated power
/// (`benches/promises.rs`) is then [`super::POWER`].
const POWER_IF_NORMAL: f64 = 0.86;

/// A planned comparison.
#[derive(Debug, Clone, Copy)]
pub struct Planned<'g> {
    /// The words of the clips of each unit: speakers where they have several clips, else clips.
    pub groups: &'g [Vec<u64>],
    /// The error rate around which both variants lie.
    pub rate: f64,
    /// Questions over all clips in the same call, such as the WER and the latency of each pair.
    pub questions: usize,
}

/// The least difference between two error rates that the units detect with probability [`super::POWER`], by the test and at the
/// level of [`super::answer`].
///
/// Errors are taken to be beta-binomial within a clip with an intraclass correlation of 0.1, and within a speaker of 0.02: values
/// at which recognisers' clips scatter, a little to the safe side, since the two variants are taken to err independently.
/// None for fewer than two units, no words, or where not even a difference of the whole range would be detected.
#[must_use]
pub fn least_difference(planned: Planned<'_>) -> Option<f64> {
    let spread = scatter(planned.groups, planned.rate)?;
    let detects = |difference: f64| planned.detects(difference, spread, planned.groups.len() as f64);
    if !detects(1.0) {
        return None;
    }
    let (mut low, mut high) = (0.0, 1.0);
    while high - low > 1e-5 {
        let middle = f64::midpoint(low, high);
        if detects(middle) { high = middle } else { low = middle }
    }
    Some(high)
}

/// About how many clips like these a comparison needs to detect a difference of `difference`, by the same reckoning. None where
/// there are fewer than two units or no words, or for a difference of 0.
#[must_use]
pub fn clips_needed(planned: Planned<'_>, difference: f64) -> Option<u64> {
    let spread = scatter(planned.groups, planned.rate)?;
    let detects = |units: u64| planned.detects(difference, spread, units as f64);
    let most = (1_u64..40).map(|power| 1 << power).find(|units| detects(*units))?;
    let (mut low, mut high) = (1, most);
    while high - low > 1 {
        let middle = u64::midpoint(low, high);
        if detects(middle) { high = middle } else { low = middle }
    }
    let (clips, units) = (planned.groups.iter().map(Vec::len).sum::<usize>(), planned.groups.len());
    Some((high as f64 * clips as f64 / units as f64).ceil() as u64)
}

impl Planned<'_> {
    /// Whether `units` units with this standard deviation detect the difference with the planned power.
    fn detects(&self, difference: f64, spread: f64, units: f64) -> bool {
        let seen = difference - normal_quantile(POWER_IF_NORMAL) * spread / units.sqrt();
        if seen <= 0.0 || units < 2.0 {
            return false;
        }
        let kind = if self.groups.iter().any(|clips| clips.len() > 1) { UnitKind::Group } else { UnitKind::Clip };
        let scores: Vec<UnitScore> =
            [seen - spread, seen + spread].map(|score| UnitScore::new(score, units / 2.0)).into();
        let reach = Reach::of_difference(&scores, seen, kind, 1.0);
        let level = super::ALPHA / self.questions.max(1) as f64;
        Scores::new(seen, scores, reach).is_some_and(|scores| scores.p_value(0.0, Sides::Together) < level)
    }
}

/// The standard deviation of a unit's score in the difference.
fn scatter(groups: &[Vec<u64>], rate: f64) -> Option<f64> {
    const WITHIN_CLIP: f64 = 0.1;
    const WITHIN_GROUP: f64 = 0.02;
    let words: f64 = groups.iter().flatten().map(|n| *n as f64).sum();
    if groups.len() < 2 || words <= 0.0 {
        return None;
    }
    let each = rate * (1.0 - rate);
    let variance: f64 = groups
        .iter()
        .map(|clips| {
            let sum: f64 = clips.iter().map(|n| *n as f64).sum();
            let own: f64 = clips.iter().map(|n| *n as f64 * (1.0 + (*n as f64 - 1.0).max(0.0) * WITHIN_CLIP)).sum();
            let between = if clips.len() > 1 { WITHIN_GROUP * sum * sum } else { 0.0 };
            2.0 * each * (own + between)
        })
        .sum();
    let units = groups.len() as f64;
    Some((variance / units).sqrt() / (words / units))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn planned(groups: &[Vec<u64>]) -> Planned<'_> {
        Planned { groups, rate: 0.1, questions: 1 }
    }

    #[test]
    fn more_clips_tell_less_and_speakers_and_questions_cost() {
        let single = |clips: usize| least_difference(planned(&vec![vec![10]; clips])).unwrap();
        assert!((single(1_600) / single(400) - 0.5).abs() < 0.02);
        // By hand, where the test is Student's: 2 * 0.09 * 10 * 1.9 a clip, 400 clips of 10 words.
        let by_hand = (1.965_927 + 1.080_319) * (400.0_f64 * 2.0 * 0.09 * 10.0 * 1.9).sqrt() / 4_000.0;
        assert!((single(400) / by_hand - 1.0).abs() < 0.01, "{} {by_hand}", single(400));
        let groups = vec![vec![10; 10]; 40];
        assert!(least_difference(planned(&groups)).unwrap() > single(400));
        let two = Planned { questions: 2, ..planned(&groups) };
        assert!(least_difference(two).unwrap() > least_difference(planned(&groups)).unwrap());
        assert_eq!(least_difference(planned(&[vec![10]])), None);
    }

    #[test]
    fn as_many_clips_as_are_needed_detect_what_was_asked() {
        for (clips, size) in [(40_usize, 1_usize), (30, 10), (9, 3)] {
            let groups = |units: usize| vec![vec![7_u64; size]; units];
            for difference in [0.05, 0.02, 0.01] {
                let needed = clips_needed(planned(&groups(clips)), difference).unwrap() as usize;
                assert_eq!(needed % size, 0);
                assert!(least_difference(planned(&groups(needed / size))).unwrap() <= difference + 2e-5);
                assert!(least_difference(planned(&groups(needed / size - 1))).unwrap() > difference);
            }
        }
        assert_eq!(clips_needed(planned(&[vec![10]]), 0.02), None);
        assert_eq!(clips_needed(planned(&vec![vec![10]; 9]), 0.0), None);
    }
}
