//! Rates with their intervals, side by side: all clips and each slice, one mark a variant.

use fonex_core::measures::Unit;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use crate::figures::{difference, signed};

use super::{
    Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, legend, line, marker, percent, shortened_apart, text,
};

/// One row: a set of clips.
#[derive(Debug, Clone, PartialEq)]
pub struct IntervalRow {
    /// Name of the set, such as `channel = radio`.
    pub name: String,
    /// How many clips and words, in words.
    pub size: String,
}

/// One series: a variant, with a rate for each row.
#[derive(Debug, Clone, PartialEq)]
pub struct IntervalSeries {
    /// Name of the variant.
    pub name: String,
    /// For each row its rate; none where it has none.
    pub values: Vec<Option<RateMark>>,
}

/// A rate with its interval, where it has one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RateMark {
    /// The rate.
    pub value: f64,
    /// Its bounds.
    pub interval: Option<(f64, f64)>,
}

/// What the axis of intervals counts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum IntervalAxis {
    /// Shares as per cent, from zero to as high as they reach.
    Share,
    /// Differences in a unit, on both sides of zero.
    Difference(Unit),
    /// Points of a fixed scale, with a tick at every whole number of these.
    Points {
        /// The least.
        low: f64,
        /// The greatest.
        high: f64,
        /// From tick to tick.
        step: f64,
    },
}

/// For which width a chart is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChartWidth {
    /// A desk's screen.
    Wide,
    /// A telephone: names stand above their marks.
    Narrow,
}

/// Where things are in the picture.
struct Geometry {
    width: u32,
    /// Where the scale begins and ends.
    left: i32,
    right: i32,
    /// Where the first row begins.
    top: i32,
    /// From the top of a row to its first mark.
    first_mark: i32,
    /// Characters of a line of text.
    characters: usize,
}

/// Differences stand beside a text, and are narrower.
const fn geometry(form: IntervalAxis, width: ChartWidth) -> Geometry {
    match (width, form) {
        (ChartWidth::Narrow, _) => {
            Geometry { width: 360, left: 28, right: 318, top: 112, first_mark: 36, characters: 52 }
        }
        (ChartWidth::Wide, IntervalAxis::Difference(_)) => {
            Geometry { width: 720, left: 216, right: 660, top: 84, first_mark: 18, characters: 110 }
        }
        (ChartWidth::Wide, _) => {
            Geometry { width: 960, left: 270, right: 910, top: 84, first_mark: 18, characters: 150 }
        }
    }
}

/// How far the scale reaches towards the greater ends: to every value, and as far as half of the intervals need; further where
/// that is little further, so that few arrows are drawn.
fn reach(values: impl Iterator<Item = f64>, ends: impl Iterator<Item = f64>) -> f64 {
    const LITTLE: f64 = 1.3;
    let furthest = values.fold(0.0_f64, f64::max);
    let mut ends: Vec<f64> = ends.filter(|end| end.is_finite()).collect();
    ends.sort_by(f64::total_cmp);
    let (Some(greatest), Some(middle)) = (ends.last(), ends.get(ends.len() / 2)) else { return furthest };
    let needed = furthest.max(*middle);
    if *greatest <= LITTLE * needed { greatest.max(furthest) } else { needed }
}

/// Text in lines of at most this many characters.
fn in_lines(words: &str, most: usize) -> Vec<String> {
    crate::folded_under(words, most, 0).lines().map(str::to_owned).collect()
}

/// Draws the chart; its height follows the rows. An interval that leaves the scale ends in an arrow with its bound.
#[must_use]
pub fn interval_svg(
    title: &str,
    (axis, form): (&str, IntervalAxis),
    rows: &[IntervalRow],
    series: &[IntervalSeries],
    for_width: ChartWidth,
) -> String {
    let Geometry { width, left, right, top: top_of_rows, first_mark, characters } = geometry(form, for_width);
    let narrow = for_width == ChartWidth::Narrow;
    let row_height = 18 * series.len().max(1) as i32 + first_mark;
    let bottom = top_of_rows + row_height * rows.len() as i32;
    let axis_lines = in_lines(axis, characters);
    let height = bottom + 40 + 16 * axis_lines.len() as i32;
    // Lines of the scale run behind the marks, and in a narrow picture not behind the names.
    let stretches = |rows: usize, row_height: i32| -> Vec<(i32, i32)> {
        if narrow {
            let row = |at: usize| top_of_rows + row_height * at as i32;
            (0..rows).map(|at| (row(at) + first_mark - 12, row(at + 1))).collect()
        } else {
            vec![(top_of_rows, bottom)]
        }
    };
    draw(width, height as u32, |area| {
        let marks = || series.iter().flat_map(|s| s.values.iter().flatten()).filter(|mark| mark.value.is_finite());
        let high = |mark: &RateMark| mark.interval.map_or(mark.value, |(_, high)| high);
        let low = |mark: &RateMark| mark.interval.map_or(mark.value, |(low, _)| low);
        let highest = reach(marks().map(|mark| mark.value), marks().map(high));
        let lowest = -reach(marks().map(|mark| -mark.value), marks().map(|mark| -low(mark)));
        let (x, ticks) = match form {
            IntervalAxis::Share => Scale::from_zero(highest.max(0.01), left, right),
            IntervalAxis::Difference(_) => Scale::around_zero(lowest.min(0.0), highest, left, right),
            IntervalAxis::Points { low, high, step } => {
                let ticks = (0..=((high - low) / step).round() as i32).map(|at| low + step * f64::from(at));
                (Scale { low, high, from: left, to: right }, ticks.collect())
            }
        };
        let title_lines = if narrow { in_lines(title, 38) } else { vec![title.to_owned()] };
        for (at, line) in title_lines.iter().take(2).enumerate() {
            let size = if narrow { 16 } else { 17 };
            text(area, line, (left.min(24), 24 + 20 * at as i32), anchored(size, INK, HPos::Left, VPos::Center))?;
        }
        let names: Vec<&str> = series.iter().map(|s| s.name.as_str()).collect();
        if names.len() > 1 || names.iter().any(|name| !name.is_empty()) {
            legend(area, &names, (left.min(30), top_of_rows - 30))?;
        }
        // A narrow picture has room for every other number.
        let every = if narrow && ticks.len() > 5 { 2 } else { 1 };
        for (at, tick) in ticks.iter().enumerate() {
            for (top, end) in stretches(rows.len(), row_height) {
                line(area, (x.at(*tick), top), (x.at(*tick), end), GRID)?;
            }
            if at % every != 0 {
                continue;
            }
            let label = match form {
                IntervalAxis::Share => percent(*tick, ticks[1]),
                IntervalAxis::Difference(Unit::Share) => {
                    format!("{} pts", signed(tick * 100.0, places_of(ticks[1] - ticks[0])))
                }
                IntervalAxis::Difference(unit) => difference(unit, *tick),
                IntervalAxis::Points { .. } => format!("{tick:.0}"),
            };
            text(area, &label, (x.at(*tick), bottom + 14), anchored(13, QUIET, HPos::Center, VPos::Center))?;
        }
        if matches!(form, IntervalAxis::Difference(_)) {
            for (top, end) in stretches(rows.len(), row_height) {
                line(area, (x.at(0.0), top), (x.at(0.0), end), QUIET.stroke_width(2))?;
            }
        }
        let row_names: Vec<&str> = rows.iter().map(|row| row.name.as_str()).collect();
        let row_names = shortened_apart(&row_names, if narrow { 30 } else { ((left - 30) / 8) as usize });
        for (index, (row, name)) in rows.iter().zip(&row_names).enumerate() {
            let top = top_of_rows + row_height * index as i32;
            line(area, (left.min(24), top), (right, top), GRID)?;
            if narrow {
                let name = format!("{name}, {}", row.size);
                text(area, &name, (left.min(24), top + 13), anchored(13, INK, HPos::Left, VPos::Center))?;
            } else {
                let middle = top + row_height / 2;
                text(area, name, (24, middle - 8), anchored(14, INK, HPos::Left, VPos::Center))?;
                text(area, &row.size, (24, middle + 9), anchored(12, QUIET, HPos::Left, VPos::Center))?;
            }
            for (at, one) in series.iter().enumerate() {
                let y = top + first_mark + 18 * at as i32;
                draw_mark(area, at, one.values.get(index).copied().flatten(), (x, form), y)?;
            }
        }
        for (at, line) in axis_lines.iter().enumerate() {
            let y = bottom + 38 + 16 * at as i32;
            text(area, line, (left.min(24), y), anchored(12, QUIET, HPos::Left, VPos::Center))?;
        }
        Ok(())
    })
}

/// Places after the point that tell apart ticks of shares, in points.
fn places_of(step: f64) -> usize {
    if step < 0.01 { 1 } else { 0 }
}

/// A bound beyond the scale, as a number without its unit.
fn bound(form: IntervalAxis, value: f64) -> String {
    match form {
        IntervalAxis::Share => format!("{:.0}", value * 100.0),
        IntervalAxis::Difference(Unit::Share) => signed(value * 100.0, 0),
        IntervalAxis::Difference(unit) => difference(unit, value),
        IntervalAxis::Points { .. } => format!("{value:.1}"),
    }
}

fn draw_mark(
    area: &super::Area<'_>,
    series: usize,
    mark: Option<RateMark>,
    (x, form): (Scale, IntervalAxis),
    y: i32,
) -> Drawn {
    let Some(RateMark { value, interval }) = mark else { return Ok(()) };
    if let Some((low, high)) = interval {
        let ink = colour(series);
        let (from, to) = (low.max(x.low), high.min(x.high));
        line(area, (x.at(from), y), (x.at(to), y), ink.stroke_width(2))?;
        for (end, side) in [(low, -1), (high, 1)] {
            if end >= x.low && end <= x.high {
                line(area, (x.at(end), y - 4), (x.at(end), y + 4), ink.stroke_width(2))?;
                continue;
            }
            let tip = (if side < 0 { x.from } else { x.to }) + 4 * side;
            line(area, (tip - 4 * side, y), (tip, y), ink.stroke_width(2))?;
            line(area, (tip - 5 * side, y - 4), (tip, y), ink.stroke_width(2))?;
            line(area, (tip - 5 * side, y + 4), (tip, y), ink.stroke_width(2))?;
            let place = if side < 0 { HPos::Right } else { HPos::Left };
            text(area, &bound(form, end), (tip + 3 * side, y), anchored(11, QUIET, place, VPos::Center))?;
        }
    }
    marker(area, series, (x.at(value), y))
}
