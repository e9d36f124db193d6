//! Medians compared pair by pair: the means of two variants over the same clips, whose difference is the mean of the pairs.

use super::{Pairs, Part, SeriesScores, linear};
use crate::measures::Sample;
use crate::stats::Scores;

/// The means of two variants over the same clips, with the scores of their difference or of the logarithm of their ratio.
pub(super) struct Typical {
    pub(super) first: f64,
    pub(super) second: f64,
    pub(super) scores: Scores,
    pub(super) pairs: Pairs,
}

/// Averages over the clips that both have; a clip counts with the mean of its rows. None with fewer than two units, or for
/// ratios of values that are not above zero.
pub(super) fn typical(first: &Sample, second: &Sample, of: Part, pairs: Pairs) -> Option<Typical> {
    let scale = scale(pairs);
    let mut differences = Sample::new(1, first.kind);
    let (mut sums, mut clips) = ([0.0; 2], 0.0);
    for clip in 0..first.ends.len() {
        let [one, other] = [mean(first, clip, of, &scale)?, mean(second, clip, of, &scale)?];
        let row = one.zip(other).map(|(one, other)| {
            sums = [sums[0] + one, sums[1] + other];
            clips += 1.0;
            [other - one]
        });
        differences.add(first.unit[clip], row.as_ref().map(<[f64; 1]>::as_slice).into_iter());
    }
    let [one, other] = sums.map(|sum| unscaled(pairs, sum / clips));
    let scores = linear::mean_difference(&differences)?;
    Some(Typical { first: one, second: other, scores, pairs })
}

/// The scores of runs, averaged over the clips that all runs answered. None for ratios of values that are not above zero.
pub(super) fn series(samples: &[&Sample], of: Part, pairs: Pairs) -> Option<SeriesScores> {
    let first = samples.first()?;
    let scale = scale(pairs);
    let by_run: Vec<Vec<Option<f64>>> = samples
        .iter()
        .map(|sample| (0..first.ends.len()).map(|clip| mean(sample, clip, of, &scale)).collect())
        .collect::<Option<_>>()?;
    let answered = |clip: &usize| by_run.iter().all(|run| run[*clip].is_some());
    let shared: Vec<usize> = (0..first.ends.len()).filter(answered).collect();
    let runs = by_run.iter().map(|run| {
        let mut sample = Sample::new(1, first.kind);
        for clip in &shared {
            let row = [run[*clip].unwrap_or_default()];
            sample.add(first.unit[*clip], std::iter::once(row.as_slice()));
        }
        linear::mean_by_unit(&sample)
    });
    let (tested, scores): (Vec<f64>, Vec<Vec<f64>>) = runs.collect::<Option<Vec<_>>>()?.into_iter().unzip();
    let values = tested.iter().map(|mean| unscaled(pairs, *mean)).collect();
    Some(SeriesScores { values, tested, scores, kind: first.kind, range: f64::INFINITY })
}

fn scale(pairs: Pairs) -> impl Fn(f64) -> Option<f64> {
    move |value| match pairs {
        Pairs::Ratios if value > 0.0 => Some(value.ln()),
        Pairs::Ratios => None,
        Pairs::Differences => Some(value),
    }
}

fn unscaled(pairs: Pairs, mean: f64) -> f64 {
    match pairs {
        Pairs::Ratios => mean.exp(),
        Pairs::Differences => mean,
    }
}

/// The mean of a clip's rows on a scale: `Some(None)` without rows, `None` if a row has no value on the scale.
fn mean(sample: &Sample, clip: usize, of: Part, scale: impl Fn(f64) -> Option<f64>) -> Option<Option<f64>> {
    let rows = sample.rows_of(clip);
    let count = rows.len() as f64;
    let sum: f64 = rows.map(|row| scale(of(sample.row(row)))).sum::<Option<f64>>()?;
    Some((count > 0.0).then(|| sum / count))
}

#[cfg(test)]
mod tests {
    use super::super::sample_of as sample;
    use crate::measures::{Estimator, Pairs, difference, series_scores};
    use crate::stats::Sides;

    const TIMES: Estimator = Estimator::Median(|row| row[0], Pairs::Ratios);
    const LEVELS: Estimator = Estimator::Median(|row| row[0], Pairs::Differences);

    #[test]
    fn figures_and_difference_belong_together() {
        // Geometric means over the three clips that both have: repeats count as one. 10, 40 and 20 against 20, 40 and 40.
        let first = sample(&[&[10.0], &[20.0, 80.0], &[20.0], &[500.0]]);
        let second = sample(&[&[20.0], &[40.0], &[40.0], &[]]);
        let found = difference(TIMES, &first, &second).unwrap();
        assert!((found.first - 20.0).abs() < 1e-9 && (found.second - 32_000.0_f64.cbrt()).abs() < 1e-9, "{found:?}");
        assert_eq!((found.difference, found.units), (found.second - found.first, 3));
        let levels = difference(LEVELS, &sample(&[&[-3.0], &[-5.0]]), &sample(&[&[-4.0], &[-8.0]])).unwrap();
        assert_eq!((levels.first, levels.second, levels.difference), (-4.0, -6.0, -2.0));
    }

    #[test]
    fn nine_pairs_that_differ_by_a_factor_of_two_are_told_and_four_are_not() {
        let told = |clips: usize| {
            let times: Vec<[f64; 2]> = (0..clips).map(|at| [39.9 + at as f64, 20.2 + at as f64 / 2.0]).collect();
            let side = |side: usize| sample(&times.iter().map(|pair| &pair[side..=side]).collect::<Vec<_>>());
            let found = difference(TIMES, &side(0), &side(1)).unwrap();
            let interval = found.interval(0.05, Sides::Together).unwrap();
            assert_eq!(found.p_value() < 0.05, interval.excludes_zero(), "{clips} {interval:?}");
            found.p_value()
        };
        assert!(told(9) < 0.01 && told(5) < 0.05 && told(4) > 0.05);
    }

    #[test]
    fn a_value_of_zero_leaves_the_medians() {
        let found =
            difference(TIMES, &sample(&[&[0.0], &[2.0], &[9.0]]), &sample(&[&[1.0], &[3.0], &[4.0]])).unwrap();
        assert_eq!((found.first, found.second, found.difference), (2.0, 3.0, 1.0));
        let [one, other] = [sample(&[&[0.0], &[2.0]]), sample(&[&[1.0], &[4.0]])];
        assert_eq!(series_scores(TIMES, &[&one, &other]).unwrap().values, [1.0, 2.5]);
        let [one, other] = [sample(&[&[1.0], &[4.0]]), sample(&[&[2.0], &[8.0]])];
        let values = series_scores(TIMES, &[&one, &other]).unwrap().values;
        assert!((values[0] - 2.0).abs() < 1e-12 && (values[1] - 4.0).abs() < 1e-12);
    }
}
