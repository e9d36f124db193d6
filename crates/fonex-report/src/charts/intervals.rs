//! Rates with their intervals, side by side: all clips and each slice, one mark a variant.

use fonex_core::measures::Unit;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use crate::figures::{difference, signed};

use super::{Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, legend, line, marker, percent, shortened, text};

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

const TOP: i32 = 84;

/// Width of the picture, and where the scale begins and ends. Differences stand beside a text, and are narrower.
const fn geometry(form: IntervalAxis) -> (u32, i32, i32) {
    match form {
        IntervalAxis::Difference(_) => (720, 216, 684),
        IntervalAxis::Share | IntervalAxis::Points { .. } => (960, 270, 930),
    }
}

/// Draws the chart; its height follows the rows.
#[must_use]
pub fn interval_svg(
    title: &str,
    (axis, form): (&str, IntervalAxis),
    rows: &[IntervalRow],
    series: &[IntervalSeries],
) -> String {
    let row_height = 18 * series.len().max(1) as i32 + 18;
    let bottom = TOP + row_height * rows.len() as i32;
    let (width, left, right) = geometry(form);
    draw(width, (bottom + 56) as u32, |area| {
        let marks = || series.iter().flat_map(|s| s.values.iter().flatten());
        let highs = marks().map(|mark| mark.interval.map_or(mark.value, |(_, high)| high));
        let lows = marks().map(|mark| mark.interval.map_or(mark.value, |(low, _)| low));
        let highest = highs.filter(|value| value.is_finite());
        let lowest = lows.filter(|value| value.is_finite()).fold(0.0_f64, f64::min);
        let (x, ticks) = match form {
            IntervalAxis::Share => Scale::from_zero(highest.fold(0.01_f64, f64::max), left, right),
            IntervalAxis::Difference(_) => Scale::around_zero(lowest, highest.fold(0.0_f64, f64::max), left, right),
            IntervalAxis::Points { low, high, step } => {
                let ticks = (0..=((high - low) / step).round() as i32).map(|at| low + step * f64::from(at));
                (Scale { low, high, from: left, to: right }, ticks.collect())
            }
        };
        text(area, title, (24, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = series.iter().map(|s| s.name.as_str()).collect();
        if names.len() > 1 || names.iter().any(|name| !name.is_empty()) {
            legend(area, &names, (30, 54))?;
        }
        for tick in &ticks {
            line(area, (x.at(*tick), TOP), (x.at(*tick), bottom), GRID)?;
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
            line(area, (x.at(0.0), TOP), (x.at(0.0), bottom), QUIET.stroke_width(2))?;
        }
        for (index, row) in rows.iter().enumerate() {
            let top = TOP + row_height * index as i32;
            line(area, (24, top), (right, top), GRID)?;
            let middle = top + row_height / 2;
            let name = shortened(&row.name, ((left - 30) / 8) as usize);
            text(area, &name, (24, middle - 8), anchored(14, INK, HPos::Left, VPos::Center))?;
            text(area, &row.size, (24, middle + 9), anchored(12, QUIET, HPos::Left, VPos::Center))?;
            for (at, one) in series.iter().enumerate() {
                draw_mark(area, at, one.values.get(index).copied().flatten(), x, top + 18 + 18 * at as i32)?;
            }
        }
        text(area, axis, (24, bottom + 38), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}

/// Places after the point that tell apart ticks of shares, in points.
fn places_of(step: f64) -> usize {
    if step < 0.01 { 1 } else { 0 }
}

fn draw_mark(area: &super::Area<'_>, series: usize, mark: Option<RateMark>, x: Scale, y: i32) -> Drawn {
    let Some(RateMark { value, interval }) = mark else { return Ok(()) };
    if let Some((low, high)) = interval {
        let ink = colour(series);
        line(area, (x.at(low), y), (x.at(high), y), ink.stroke_width(2))?;
        for end in [low, high] {
            line(area, (x.at(end), y - 4), (x.at(end), y + 4), ink.stroke_width(2))?;
        }
    }
    marker(area, series, (x.at(value), y))
}
