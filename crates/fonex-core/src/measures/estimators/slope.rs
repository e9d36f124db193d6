//! Slopes within clips, such as the drift of word times, with an interval that knows of slow wander.

use super::linear::Linear;
use crate::measures::Sample;
use crate::stats::{Interval, median, student_quantile};

/// A slope over clips.
pub(super) struct Slope {
    /// Milliseconds a minute.
    pub(super) value: f64,
    pub(super) interval: Option<Interval>,
    pub(super) units: u64,
}

/// Points of a clip are brought to this many by medians of stretches, before all pairs of them are taken.
const MOST_POINTS: usize = 300;
/// Stretches of equal length that the rest beside the line is averaged in.
const STRETCHES: usize = 32;
/// Waves that the long-run variance is taken from.
const WAVES: usize = 4;
/// Points a single recording needs for an interval.
const LEAST_POINTS: usize = 40;
/// With fewer units than this the uncertainty within each recording is taken, not the one between them.
const FEW_UNITS: usize = 8;

/// One clip: its slope, and the spread of its times, which is its weight.
struct ClipSlope {
    unit: u32,
    slope: f64,
    weight: f64,
    /// Standard error from within the clip.
    error: Option<f64>,
}

/// The slope of each clip by the median of the slopes between its points (Theil 1950, Sen 1968), averaged with the spread of
/// its times as weight.
///
/// With eight units or more the interval is that of a ratio over units. With fewer it comes from within the recordings: the
/// rest beside the line is turned into the four longest cosine waves, whose power is the long-run variance, and Student's
/// distribution with as many degrees of freedom (Müller, "A theory of robust long-run variance estimation", 2007; Lazarus
/// and others, "HAR inference: recommendations for practice", 2018). Wander that is slow against the recording
/// is in these waves, so that the length of blocks is not left to choice.
pub(super) fn estimate(sample: &Sample, alpha: f64) -> Option<Slope> {
    let slopes = clip_slopes(sample);
    let weight: f64 = slopes.iter().map(|clip| clip.weight).sum();
    if weight <= 0.0 {
        return None;
    }
    let value = slopes.iter().map(|clip| clip.weight * clip.slope).sum::<f64>() / weight;
    let linear = linear_of(sample, &slopes)?;
    let units = linear.units();
    let interval = if units as usize >= FEW_UNITS {
        linear.scores(crate::stats::UnitKind::Group).map(|scores| scores.interval(alpha, crate::stats::Sides::Each))
    } else {
        let variance: Option<f64> =
            slopes.iter().map(|clip| clip.error.map(|error| (clip.weight * error).powi(2))).sum();
        variance.map(|variance| {
            let half = student_quantile(alpha, WAVES as f64) * variance.sqrt() / weight;
            Interval { low: value - half, high: value + half }
        })
    };
    Some(Slope { value, interval, units })
}

/// The slopes as scores by unit.
pub(super) fn linear(sample: &Sample) -> Option<Linear> {
    linear_of(sample, &clip_slopes(sample))
}

fn linear_of(sample: &Sample, slopes: &[ClipSlope]) -> Option<Linear> {
    let mut parts = vec![None::<[f64; 2]>; sample.unit.iter().max().map_or(0, |unit| *unit as usize + 1)];
    for clip in slopes {
        let own = parts[clip.unit as usize].get_or_insert([0.0; 2]);
        own[0] += clip.weight * clip.slope;
        own[1] += clip.weight;
    }
    let (sum, weight) = parts.iter().flatten().fold((0.0, 0.0), |(a, b), own| (a + own[0], b + own[1]));
    if weight <= 0.0 {
        return None;
    }
    let units = parts.iter().flatten().count() as f64;
    let value = sum / weight;
    let influence = |[a, b]: [f64; 2]| (a - value * b) / (weight / units);
    Some(Linear::new(
        value,
        parts.into_iter().map(|own| own.map(influence)).collect(),
        (f64::NEG_INFINITY, f64::INFINITY),
    ))
}

fn clip_slopes(sample: &Sample) -> Vec<ClipSlope> {
    let mut slopes = Vec::new();
    for clip in 0..sample.ends.len() {
        let mut points: Vec<[f64; 2]> =
            sample.rows_of(clip).map(|row| [sample.row(row)[0] / 60.0, sample.row(row)[1]]).collect();
        points.sort_by(|a, b| a[0].total_cmp(&b[0]));
        let thinned = thinned(&points);
        let Some(slope) = median_slope(&thinned) else { continue };
        let mean = points.iter().map(|point| point[0]).sum::<f64>() / points.len() as f64;
        let weight = points.iter().map(|point| (point[0] - mean).powi(2)).sum::<f64>();
        if weight > 0.0 {
            slopes.push(ClipSlope { unit: sample.unit[clip], slope, weight, error: error_within(&points, slope) });
        }
    }
    slopes
}

/// Medians of consecutive stretches, where there are more points than all pairs are taken of.
fn thinned(points: &[[f64; 2]]) -> Vec<[f64; 2]> {
    if points.len() <= MOST_POINTS {
        return points.to_vec();
    }
    let middle = |part: &[[f64; 2]], at: usize| {
        median(&part.iter().map(|point| point[at]).collect::<Vec<f64>>()).unwrap_or_default()
    };
    points.chunks(points.len().div_ceil(MOST_POINTS)).map(|part| [middle(part, 0), middle(part, 1)]).collect()
}

fn median_slope(points: &[[f64; 2]]) -> Option<f64> {
    let mut slopes = Vec::with_capacity(points.len() * points.len() / 2);
    for (at, later) in points.iter().enumerate() {
        let earlier = points[..at].iter().filter(|point| later[0] - point[0] > 1e-9);
        slopes.extend(earlier.map(|point| (later[1] - point[1]) / (later[0] - point[0])));
    }
    median(&slopes)
}

/// The standard error of a slope from the rest beside its line.
fn error_within(points: &[[f64; 2]], slope: f64) -> Option<f64> {
    if points.len() < LEAST_POINTS {
        return None;
    }
    let (from, to) = (points.first()?[0], points.last()?[0]);
    let rest: Vec<f64> = points.iter().map(|point| point[1] - slope * point[0]).collect();
    let level = median(&rest)?;
    let scale = median(&rest.iter().map(|value| (value - level).abs()).collect::<Vec<f64>>())? * 1.4826;
    // A word that was taken for another far away says nothing of the clock.
    let held = |value: f64| (value - level).clamp(-4.0 * scale, 4.0 * scale);
    let centre = f64::midpoint(from, to);
    let mut waves = [0.0; WAVES];
    let mut sums = [[0.0; 2]; STRETCHES];
    for (point, value) in points.iter().zip(&rest) {
        let place = ((point[0] - from) / (to - from) * STRETCHES as f64) as usize;
        let own = &mut sums[place.min(STRETCHES - 1)];
        own[0] += held(*value) * (point[0] - centre);
        own[1] += (point[0] - centre).powi(2);
    }
    for (number, wave) in waves.iter_mut().enumerate() {
        let turn = std::f64::consts::PI * (number + 1) as f64 / STRETCHES as f64;
        *wave = sums.iter().enumerate().map(|(at, own)| own[0] * (turn * (at as f64 + 0.5)).cos()).sum();
    }
    let power = waves.iter().map(|wave| wave * wave).sum::<f64>() * 2.0 / WAVES as f64;
    let spread: f64 = sums.iter().map(|own| own[1]).sum();
    let by_waves = power.sqrt() / spread;
    Some(by_waves.max(error_of_wander(points, &rest, (from, to), held).unwrap_or(0.0)))
}

/// The standard error of a slope if the rest beside the line wanders as an autoregression of the first order does, from the
/// means of stretches. A fitted line makes their correlation look smaller by about (2 + 4 r) / n (Kendall, "Note on bias in the
/// estimation of autocorrelation", 1954), which is put back.
fn error_of_wander(
    points: &[[f64; 2]],
    rest: &[f64],
    (from, to): (f64, f64),
    held: impl Fn(f64) -> f64,
) -> Option<f64> {
    let mut sums = [[0.0; 2]; STRETCHES];
    for (point, value) in points.iter().zip(rest) {
        let place = ((point[0] - from) / (to - from) * STRETCHES as f64) as usize;
        let own = &mut sums[place.min(STRETCHES - 1)];
        own[0] += held(*value);
        own[1] += 1.0;
    }
    let means: Vec<Option<f64>> = sums.iter().map(|[sum, n]| (*n > 0.0).then(|| sum / n)).collect();
    let known: Vec<f64> = means.iter().flatten().copied().collect();
    let count = known.len() as f64;
    let level = known.iter().sum::<f64>() / count;
    let variance = known.iter().map(|mean| (mean - level).powi(2)).sum::<f64>() / (count - 2.0).max(1.0);
    let pairs: Vec<f64> = means.windows(2).filter_map(|pair| Some((pair[0]? - level) * (pair[1]? - level))).collect();
    if variance <= 0.0 || pairs.is_empty() {
        return None;
    }
    let seen = (pairs.iter().sum::<f64>() / pairs.len() as f64 / variance).clamp(0.0, 0.97);
    let keep = (seen + (2.0 + 4.0 * seen) / count).min(0.97);
    // A fitted line takes away variance as well, the more the slower the wander.
    let whole = variance * (1.0 + keep) / (1.0 - keep) / ((1.0 + seen) / (1.0 - seen)).max(1.0);
    let variance = variance.max(whole);
    let place = |at: usize| at as f64 - (STRETCHES as f64 - 1.0) / 2.0;
    let mut sum = 0.0;
    for i in 0..STRETCHES {
        for j in 0..STRETCHES {
            sum += place(i) * place(j) * keep.powi(i.abs_diff(j) as i32);
        }
    }
    let spread: f64 = (0..STRETCHES).map(|at| place(at).powi(2)).sum();
    let stretch = (to - from) / STRETCHES as f64;
    Some((variance * sum).sqrt() / spread / stretch)
}
