//! How much a number varies from repeat to repeat of the same clip.

use super::Part;
use super::linear::Linear;
use crate::measures::Sample;

/// The standard deviation within clips, over those that have repeats; each clip's own has one degree of freedom fewer than its repeats, so
/// that few repeats do not make it small: the mean is of variances, and its root is taken at the end (as in a one-way analysis of variance;
/// Fisher 1925). None without a clip that has two.
pub(super) fn within(sample: &Sample, of: Part) -> Option<Linear> {
    let mut sums = by_unit(sample);
    for (clip, values) in values(sample, of).iter().enumerate().filter(|(_, values)| values.len() > 1) {
        let mean = mean(values);
        let squares: f64 = values.iter().map(|value| (value - mean).powi(2)).sum();
        let sum = sums[sample.unit[clip] as usize].get_or_insert([0.0; 2]);
        sum[0] += squares;
        sum[1] += (values.len() - 1) as f64;
    }
    root_of(&sums, 1.0)
}

/// The standard deviation over clips, each by the mean of its repeats. None with fewer than two clips.
pub(super) fn between(sample: &Sample, of: Part) -> Option<Linear> {
    let clips: Vec<Option<f64>> =
        values(sample, of).iter().map(|values| (!values.is_empty()).then(|| mean(values))).collect();
    let known: Vec<f64> = clips.iter().flatten().copied().collect();
    if known.len() < 2 {
        return None;
    }
    let middle = mean(&known);
    let mut sums = by_unit(sample);
    for (clip, value) in clips.iter().enumerate() {
        if let Some(value) = value {
            let sum = sums[sample.unit[clip] as usize].get_or_insert([0.0; 2]);
            sum[0] += (value - middle).powi(2);
            sum[1] += 1.0;
        }
    }
    // One degree of freedom went into the mean.
    root_of(&sums, known.len() as f64 / (known.len() - 1) as f64)
}

fn by_unit(sample: &Sample) -> Vec<Option<[f64; 2]>> {
    vec![None; sample.unit.iter().max().map_or(0, |unit| *unit as usize + 1)]
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

/// The numbers of each clip.
fn values(sample: &Sample, of: Part) -> Vec<Vec<f64>> {
    let mut clips: Vec<Vec<f64>> = vec![Vec::new(); sample.ends.len()];
    sample.each_row(|clip, row, _| clips[clip].push(of(row)));
    clips
}

/// The root of a variance that is a ratio of sums over units, and what each unit adds to it.
fn root_of(sums: &[Option<[f64; 2]>], times: f64) -> Option<Linear> {
    let present: Vec<[f64; 2]> = sums.iter().flatten().copied().collect();
    let (squares, freedom) = present.iter().fold((0.0, 0.0), |(a, b), own| (a + own[0], b + own[1]));
    if freedom <= 0.0 {
        return None;
    }
    let (variance, mean) = (times * squares / freedom, freedom / present.len() as f64);
    let estimate = variance.sqrt();
    // The root's slope turns what a unit adds to the variance into what it adds to the deviation.
    let slope = if estimate > 0.0 { 0.5 / estimate } else { 0.0 };
    let by_unit = sums.iter().map(|sum| sum.map(|[a, b]| slope * (times * a - variance * b) / mean)).collect();
    Some(Linear::new(estimate, by_unit, (0.0, f64::INFINITY)))
}

#[cfg(test)]
mod tests {
    use rand::RngExt;

    use super::super::sample_of as sample;
    use crate::measures::{Estimator, estimate};
    use crate::stats::{normal_quantile, stream};

    const SPREAD: Estimator = Estimator::Spread(|row| row[0]);

    #[test]
    fn pooled_deviation_by_hand() {
        // Squares 2 with one degree of freedom, 8 with two, and a clip without repeats: 10 / 3.
        let found = estimate(SPREAD, &sample(&[&[1.0, 3.0], &[0.0, 2.0, 4.0], &[9.0]])).unwrap();
        assert!((found.value - (10.0_f64 / 3.0).sqrt()).abs() < 1e-12);
        assert!(estimate(SPREAD, &sample(&[&[1.0], &[2.0]])).is_none(), "nothing is repeated");
        assert_eq!(estimate(SPREAD, &sample(&[&[1.0, 1.0], &[2.0, 2.0]])).unwrap().value, 0.0);
    }

    #[test]
    fn deviation_over_clips_by_hand() {
        const SCATTER: Estimator = Estimator::Scatter(|row| row[0]);
        // Means 2, 2 and 5: squares 1, 1, 4 over two degrees of freedom.
        let found = estimate(SCATTER, &sample(&[&[1.0, 3.0], &[2.0], &[5.0]])).unwrap();
        assert!((found.value - 3.0_f64.sqrt()).abs() < 1e-12);
        assert!(estimate(SCATTER, &sample(&[&[1.0, 2.0]])).is_none(), "one clip");
    }

    #[test]
    fn a_planted_deviation_lies_in_the_interval() {
        let mut held = 0;
        for seed in 0..200 {
            let mut random = stream(seed, &["spread"]);
            let mut drawn = || 0.3 * normal_quantile(random.random_range(0.0001..0.9999));
            let clips: Vec<Vec<f64>> =
                (0..40).map(|clip| (0..3).map(|_| f64::from(clip) + drawn()).collect()).collect();
            let clips: Vec<&[f64]> = clips.iter().map(Vec::as_slice).collect();
            held += u32::from(estimate(SPREAD, &sample(&clips)).unwrap().interval.unwrap().holds(0.3));
        }
        // 95 % of 200 are 190; five standard errors fewer are 175.
        assert!(held >= 175, "{held} of 200");
    }
}
