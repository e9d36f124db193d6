//! Quantiles over rows whose units are clustered: by the share of rows on either side (Woodruff, "Confidence intervals for
//! medians and other position measures", 1952), so that every test is one of shares.

use std::collections::BTreeMap;

use super::{Part, SeriesScores};
use crate::measures::Sample;
use crate::stats::{Interval, RatioKind, Scores, Sides, UnitKind, ratio_difference_scores, ratio_scores};

/// A row's value, its unit, and how many repeats share the weight of its clip: small, since there may be millions.
#[derive(Debug, Clone, Copy)]
struct Row {
    value: f64,
    unit: u32,
    repeats: u32,
}

impl Row {
    fn weight(&self) -> f64 {
        1.0 / f64::from(self.repeats)
    }
}

/// The rows of a clip, with what `of` makes of each.
fn rows_of<'s>(sample: &'s Sample, clip: usize, of: impl Fn(&[f64]) -> f64 + 's) -> impl Iterator<Item = Row> + 's {
    let (unit, repeats) = (sample.unit[clip], sample.repeats[clip]);
    sample.rows_of(clip).map(move |row| Row { value: of(sample.row(row)), unit, repeats })
}

fn sorted(sample: &Sample, of: Part) -> Vec<Row> {
    let mut rows: Vec<Row> = Vec::with_capacity(sample.own_rows());
    (0..sample.ends.len()).for_each(|clip| rows.extend(rows_of(sample, clip, of)));
    rows.sort_unstable_by(|a, b| a.value.total_cmp(&b.value));
    rows
}

/// The weighted quantile by linear interpolation; with equal weights Hyndman and Fan's type 7 ("Sample quantiles in
/// statistical packages", 1996).
fn at(rows: &[Row], q: f64) -> Option<f64> {
    let (first, last) = (rows.first()?, rows.last()?);
    let span = rows.iter().map(Row::weight).sum::<f64>() - f64::midpoint(first.weight(), last.weight());
    if rows.len() == 1 || span <= 0.0 {
        return Some(first.value);
    }
    let wanted = q.clamp(0.0, 1.0) * span;
    let mut passed = 0.0;
    for pair in rows.windows(2) {
        let gap = f64::midpoint(pair[0].weight(), pair[1].weight());
        if passed + gap >= wanted - 1e-12 * span {
            let share = ((wanted - passed) / gap).clamp(0.0, 1.0);
            return Some(pair[0].value + (pair[1].value - pair[0].value) * share);
        }
        passed += gap;
    }
    Some(last.value)
}

/// The quantile and the number of units it stands on.
pub(super) fn value(sample: &Sample, q: f64, of: Part) -> Option<(f64, usize)> {
    Some((at(&sorted(sample, of), q)?, sample.units_with_rows().1))
}

/// The values that the share of rows at or below them does not exclude at level `alpha`. None where rows are too few on
/// one side.
pub(super) fn interval(sample: &Sample, q: f64, of: Part, alpha: f64) -> Option<Interval> {
    let rows = sorted(sample, of);
    let (place, units) = sample.units_with_rows();
    if units < 2 {
        return None;
    }
    let mut split = Split::new(&rows, &place, units, sample.kind);
    let start = split.place_of(q);
    // The most values for which the share is surely below q, and the fewest for which it is surely above.
    let below = |split: &Split<'_>| Some(split.excludes(q, alpha)? == Side::Below);
    let low = first(&mut split, start, |split| Some(!below(split)?))?;
    let high = first(&mut split, start, |split| Some(split.excludes(q, alpha)? == Side::Above))?;
    (low >= 1 && high <= split.ends.len())
        .then(|| Interval { low: split.value(low - 1), high: split.value(high - 1) })
}

/// The least number of values below for which a test that stays true once it is holds; one more than there are if it never
/// does. Sought from `start` in steps that double, since it lies within a few roots of the values of it.
fn first(split: &mut Split<'_>, start: usize, holds: impl Fn(&Split<'_>) -> Option<bool>) -> Option<usize> {
    let most = split.ends.len();
    let mut step = (most as f64).sqrt() as usize / 4 + 1;
    split.move_to(start);
    let (mut not, mut does) = if holds(split)? { (None, start) } else { (Some(start), most + 1) };
    loop {
        let next = match not {
            // Down until it does not hold.
            None if does == 0 => return Some(0),
            None => does.saturating_sub(step),
            // Up until it does.
            Some(not) if does > most => (not + step).min(most),
            Some(_) => break,
        };
        step *= 2;
        split.move_to(next);
        match (holds(split)?, not) {
            (true, _) => does = next,
            (false, None) => not = Some(next),
            (false, Some(_)) if next == most => return Some(most + 1),
            (false, Some(_)) => not = Some(next),
        }
    }
    let mut not = not?;
    while does - not > 1 {
        let middle = usize::midpoint(not, does);
        split.move_to(middle);
        if holds(split)? { does = middle } else { not = middle }
    }
    Some(does)
}

/// On which side of a value a share surely lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Side {
    Below,
    Above,
    Neither,
}

/// Weights are counted in these parts of one, so that moving to and fro leaves no rest.
const GRAIN: f64 = (1_u64 << 40) as f64;

/// Sorted rows parted into those below a place and the others, with each unit's part below and in all. Rows of the same value are never
/// parted: the share at or below a value has all of them, whatever order they came in.
struct Split<'r> {
    rows: &'r [Row],
    /// Where the rows of each value end.
    ends: Vec<usize>,
    place: &'r [u32],
    parts: Vec<[i64; 2]>,
    /// How many units have the same parts.
    kinds: BTreeMap<[i64; 2], i64>,
    below: usize,
    kind: UnitKind,
}

impl<'r> Split<'r> {
    fn new(rows: &'r [Row], place: &'r [u32], units: usize, kind: UnitKind) -> Self {
        let mut parts = vec![[0, 0]; units];
        rows.iter().for_each(|row| parts[place[row.unit as usize] as usize][1] += grains(row.weight()));
        let mut kinds = BTreeMap::new();
        parts.iter().for_each(|own| *kinds.entry(*own).or_default() += 1);
        let ends = (1..=rows.len()).filter(|end| rows.get(*end).is_none_or(|next| next.value != rows[end - 1].value));
        Self { rows, ends: ends.collect(), place, parts, kinds, below: 0, kind }
    }

    /// A value, by its place among all that differ.
    fn value(&self, place: usize) -> f64 {
        self.rows[self.ends[place] - 1].value
    }

    /// The fewest values whose rows' share is at least q.
    fn place_of(&self, q: f64) -> usize {
        let wanted = self.rows.iter().map(Row::weight).sum::<f64>() * q;
        let mut passed = 0.0;
        let reached = self.rows.iter().position(|row| {
            passed += row.weight();
            passed >= wanted
        });
        reached.map_or(self.ends.len(), |at| self.ends.partition_point(|end| *end <= at) + 1)
    }

    /// Parts the rows behind this many values.
    fn move_to(&mut self, values: usize) {
        let below = values.checked_sub(1).map_or(0, |last| self.ends[last]);
        let (moved, sign) = if below > self.below { (self.below..below, 1) } else { (below..self.below, -1) };
        for row in &self.rows[moved] {
            let own = &mut self.parts[self.place[row.unit as usize] as usize];
            if let Some(same) = self.kinds.get_mut(own) {
                *same -= 1;
                if *same == 0 {
                    self.kinds.remove(own);
                }
            }
            own[0] += sign * grains(row.weight());
            *self.kinds.entry(*own).or_default() += 1;
        }
        self.below = below;
    }

    /// On which side of `value` the share below surely lies.
    fn excludes(&self, value: f64, alpha: f64) -> Option<Side> {
        let part = |grains: i64| grains as f64 / GRAIN;
        let kinds: Vec<RatioKind> =
            self.kinds.iter().map(|([below, all], units)| ([part(*below), part(*all)], *units as f64)).collect();
        let scores = ratio_scores(&kinds, self.kind, (0.0, 1.0))?;
        Some(if scores.p_value(value, Sides::Each) >= alpha {
            Side::Neither
        } else if scores.estimate() < value {
            Side::Below
        } else {
            Side::Above
        })
    }
}

fn grains(weight: f64) -> i64 {
    (weight * GRAIN).round() as i64
}

/// Two variants whose quantiles are compared with each other.
#[derive(Debug, Clone)]
pub struct Pair {
    first: Vec<Row>,
    second: Vec<Row>,
    place: Vec<u32>,
    units: usize,
    q: f64,
    kind: UnitKind,
    difference: f64,
}

impl Pair {
    pub(super) fn new(first: &Sample, second: &Sample, q: f64, of: Part) -> Option<Self> {
        let (rows, others) = (sorted(first, of), sorted(second, of));
        let difference = at(&others, q)? - at(&rows, q)?;
        let mut place = vec![u32::MAX; first.unit.iter().max().map_or(0, |unit| *unit as usize + 1)];
        let mut units = 0;
        for row in rows.iter().chain(&others) {
            let own = &mut place[row.unit as usize];
            if *own == u32::MAX {
                *own = units;
                units += 1;
            }
        }
        let units = units as usize;
        (units > 1).then_some(Self { first: rows, second: others, place, units, q, kind: first.kind, difference })
    }

    pub(super) const fn units(&self) -> u64 {
        self.units as u64
    }

    /// Whether all values of both variants are equal.
    pub(super) fn is_constant(&self) -> bool {
        let mut values = self.first.iter().chain(&self.second).map(|row| row.value);
        let first = values.next();
        values.all(|value| Some(value) == first)
    }

    /// The difference of the shares above the pooled quantile, once the second is moved down by `shift`: where the quantiles
    /// differ by just that, it is zero.
    pub(super) fn scores(&self, shift: f64) -> Option<Scores> {
        let moved: Vec<Row> = self.second.iter().map(|row| Row { value: row.value - shift, ..*row }).collect();
        let mut pooled: Vec<Row> = self.first.iter().chain(&moved).copied().collect();
        pooled.sort_unstable_by(|a, b| a.value.total_cmp(&b.value));
        let threshold = at(&pooled, self.q)?;
        let mut parts = vec![[0.0; 4]; self.units];
        for (rows, from) in [(&self.first, 0), (&moved, 2)] {
            for row in rows {
                let own = &mut parts[self.place[row.unit as usize] as usize];
                own[from] += if row.value > threshold { row.weight() } else { 0.0 };
                own[from + 1] += row.weight();
            }
        }
        let kinds: Vec<_> = parts.into_iter().map(|own| (own, 1.0)).collect();
        ratio_difference_scores(&kinds, self.kind, 1.0)
    }

    pub(super) fn p_value(&self, shift: f64, sides: Sides) -> f64 {
        self.scores(shift).map_or(1.0, |scores| scores.p_value(0.0, sides))
    }

    /// The shifts that are not excluded at level `alpha`, sought from the difference seen outwards.
    pub(super) fn interval(&self, alpha: f64, sides: Sides) -> Option<Interval> {
        let values = || self.first.iter().chain(&self.second).map(|row| row.value);
        let range = values().fold(f64::MIN, f64::max) - values().fold(f64::MAX, f64::min);
        if range <= 0.0 {
            return None;
        }
        let edge = |sign: f64| {
            let mut step = range / 64.0;
            let mut inside = self.difference;
            let mut outside = self.difference + sign * step;
            while self.p_value(outside, sides) >= alpha {
                inside = outside;
                step *= 2.0;
                outside = self.difference + sign * step;
                if step > 4.0 * range {
                    return None;
                }
            }
            for _ in 0..24 {
                let middle = f64::midpoint(inside, outside);
                if self.p_value(middle, sides) >= alpha { inside = middle } else { outside = middle }
            }
            Some(inside)
        };
        Some(Interval { low: edge(-1.0)?, high: edge(1.0)? })
    }
}

/// Runs against the quantile of all their rows together; for medians each clip's own level is taken off first.
pub(super) fn series(samples: &[&Sample], q: f64, of: Part, kind: UnitKind) -> Option<SeriesScores> {
    let values: Vec<f64> = samples.iter().map(|sample| Some(value(sample, q, of)?.0)).collect::<Option<_>>()?;
    let clips = samples.iter().map(|sample| sample.ends.len()).max()?;
    let mut by_run: Vec<Vec<Row>> = Vec::new();
    let level: Vec<f64> = (0..clips)
        .map(|clip| {
            let mut own: Vec<Row> = samples.iter().flat_map(|sample| rows_of(sample, clip, of)).collect();
            own.sort_by(|a, b| a.value.total_cmp(&b.value));
            if q == 0.5 { at(&own, 0.5).unwrap_or(0.0) } else { 0.0 }
        })
        .collect();
    for sample in samples {
        let mut rows = Vec::new();
        (0..sample.ends.len()).for_each(|clip| rows.extend(rows_of(sample, clip, |row| of(row) - level[clip])));
        by_run.push(rows);
    }
    let mut pooled: Vec<Row> = by_run.iter().flatten().copied().collect();
    pooled.sort_unstable_by(|a, b| a.value.total_cmp(&b.value));
    let threshold = at(&pooled, q)?;
    let units = pooled.iter().map(|row| row.unit).max()? as usize + 1;
    let mut present = vec![false; units];
    pooled.iter().for_each(|row| present[row.unit as usize] = true);
    let total = present.iter().filter(|here| **here).count() as f64;
    let mut tested = Vec::new();
    let mut scores = Vec::new();
    for rows in &by_run {
        let mut parts = vec![[0.0; 2]; units];
        for row in rows {
            let own = &mut parts[row.unit as usize];
            own[0] += if row.value > threshold { row.weight() } else { 0.0 };
            own[1] += row.weight();
        }
        let (above, all) = parts.iter().fold((0.0, 0.0), |(a, b), own| (a + own[0], b + own[1]));
        let share = above / all;
        tested.push(share);
        let score = |own: [f64; 2]| share + (own[0] - share * own[1]) / (all / total);
        scores.push(parts.into_iter().zip(&present).filter(|(_, here)| **here).map(|(own, _)| score(own)).collect());
    }
    Some(SeriesScores { values, tested, scores, kind, range: 1.0 })
}
