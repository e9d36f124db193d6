//! What is typical of two variants on the same clips: means of clips that both have, whose difference is that of the pairs.

use super::{Pairs, Part, SeriesScores, linear};
use crate::measures::Sample;
use crate::stats::Scores;

/// What is typical of two variants, and the scores of their difference or of the logarithm of their ratio.
pub(super) struct Typical {
    pub(super) first: f64,
    pub(super) second: f64,
    pub(super) scores: Scores,
    pub(super) pairs: Pairs,
}

/// Means over the clips that both have, each by the mean of its rows. None with fewer than two units, or where a ratio is
/// asked for and a value is not above zero.
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

/// The scores of runs of the same clips: means over the clips that all of them answered. None as above.
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

/// The mean of a clip's rows on a scale: none inside where it has no rows, none outside where a row has no place on the scale.
fn mean(sample: &Sample, clip: usize, of: Part, scale: impl Fn(f64) -> Option<f64>) -> Option<Option<f64>> {
    let rows = sample.rows_of(clip);
    let count = rows.len() as f64;
    let sum: f64 = rows.map(|row| scale(of(sample.row(row)))).sum::<Option<f64>>()?;
    Some((count > 0.0).then(|| sum / count))
}
