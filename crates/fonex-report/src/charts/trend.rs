//! A measure over runs, with its interval as a band, changes and breaks marked.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use fonex_core::measures::Unit;

use super::{
    Area, Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, font, legend, line, marker, percent, shortened,
    text,
};

/// One series of a trend.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendLine {
    /// Its name.
    pub name: String,
    /// One mark a run, oldest first; all series have the same runs.
    pub marks: Vec<TrendMark>,
}

/// One run of a series.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendMark {
    /// The run's label.
    pub label: String,
    /// The figure; none where the series has no such run.
    pub value: Option<f64>,
    /// Its interval.
    pub interval: Option<(f64, f64)>,
    /// A change that begins at this run.
    pub change: Option<ChangeMark>,
    /// Whether runs stop being comparable before this one.
    pub breaks: bool,
}

/// What a change means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeMark {
    /// To the worse.
    Worse,
    /// To the better.
    Better,
    /// Neither is better.
    Other,
}

impl ChangeMark {
    /// The sign and the word beside it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Worse => "▲ worse",
            Self::Better => "▼ better",
            Self::Other => "◆ differs",
        }
    }
}

/// How a trend is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendChart {
    /// What it shows.
    pub title: String,
    /// The figure's unit on the axis.
    pub unit: Unit,
    /// What stands below, such as breaks.
    pub note: String,
    /// The series.
    pub lines: Vec<TrendLine>,
    /// What a gate allows; drawn where a single series is.
    pub limits: Vec<TrendLimit>,
}

/// A limit of a gate.
#[derive(Debug, Clone, PartialEq)]
pub struct TrendLimit {
    /// Its name.
    pub name: String,
    /// Where it lies.
    pub at: f64,
}

const WIDTH: u32 = 960;
const HEIGHT: u32 = 420;
const LEFT: i32 = 64;
const RIGHT: i32 = 930;
const TOP: i32 = 84;
const BOTTOM: i32 = 350;

/// Draws the chart.
#[must_use]
pub fn trend_svg(chart: &TrendChart) -> String {
    let TrendChart { title, unit, note, lines, limits } = chart;
    draw(WIDTH, HEIGHT, |area| {
        let runs = lines.iter().map(|l| l.marks.len()).max().unwrap_or(0);
        let values = || {
            let marks = lines.iter().flat_map(|l| &l.marks);
            let ends =
                |mark: &TrendMark| mark.interval.into_iter().flat_map(|(low, high)| [low, high]).chain(mark.value);
            marks.flat_map(ends).chain(limits.iter().map(|limit| limit.at)).filter(|value| value.is_finite())
        };
        let (lowest, highest) = (values().fold(0.0_f64, f64::min), values().fold(f64::MIN_POSITIVE, f64::max));
        let (y, ticks) = Scale::around_zero(lowest * 1.08, highest * 1.08, BOTTOM, TOP);
        let x = Scale { low: -0.5, high: runs as f64 - 0.5, from: LEFT, to: RIGHT };
        text(area, title, (LEFT - 40, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = lines.iter().map(|l| l.name.as_str()).collect();
        legend(area, &names, (LEFT - 34, 54))?;
        for tick in &ticks {
            let at = y.at(*tick);
            line(area, (LEFT, at), (RIGHT, at), GRID)?;
            let label = axis_label(*unit, *tick, ticks.get(1).map_or(1.0, |next| next - ticks[0]));
            text(area, &label, (LEFT - 8, at), anchored(13, QUIET, HPos::Right, VPos::Center))?;
        }
        run_labels(area, lines, x, runs)?;
        for limit in limits {
            let at = y.at(limit.at);
            for step in (LEFT..RIGHT).step_by(14) {
                line(area, (step, at), ((step + 8).min(RIGHT), at), INK)?;
            }
        }
        for (series, trend) in lines.iter().enumerate() {
            draw_series(area, series, trend, x, y)?;
        }
        text(area, note, (LEFT - 40, HEIGHT as i32 - 16), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}

fn run_labels(area: &Area<'_>, lines: &[TrendLine], x: Scale, runs: usize) -> Drawn {
    // Labels that would run into each other are thinned out, the last one kept.
    let room = (RIGHT - LEFT) / runs.max(1) as i32;
    let longest = lines.iter().flat_map(|l| &l.marks).map(|m| m.label.chars().count().min(14)).max().unwrap_or(1);
    let every = ((longest as i32 * 8 + 10) / room.max(1) + 1).max(1) as usize;
    for (run, mark) in lines.first().map_or(&[][..], |l| &l.marks).iter().enumerate() {
        let at = x.at(run as f64);
        line(area, (at, BOTTOM), (at, BOTTOM + 4), QUIET)?;
        if (runs - 1 - run).is_multiple_of(every) {
            let label = shortened(&mark.label, 14);
            text(area, &label, (at, BOTTOM + 18), anchored(13, INK, HPos::Center, VPos::Center))?;
        }
    }
    Ok(())
}

fn draw_series(area: &Area<'_>, series: usize, trend: &TrendLine, x: Scale, y: Scale) -> Drawn {
    let ink = colour(series);
    // The line and its band end at a break and restart behind it.
    let mut stretches: Vec<Vec<(usize, &TrendMark)>> = vec![Vec::new()];
    for (run, mark) in trend.marks.iter().enumerate() {
        if mark.breaks && stretches.last().is_some_and(|stretch| !stretch.is_empty()) {
            stretches.push(Vec::new());
            let at = x.at(run as f64 - 0.5);
            for step in (TOP..BOTTOM).step_by(8) {
                line(area, (at, step), (at, (step + 4).min(BOTTOM)), QUIET)?;
            }
        }
        stretches.last_mut().expect("there is one").push((run, mark));
    }
    for stretch in stretches {
        let band: Vec<(i32, f64, f64)> = stretch
            .iter()
            .filter_map(|(run, mark)| mark.interval.map(|(low, high)| (x.at(*run as f64), low, high)))
            .collect();
        if band.len() > 1 {
            let upper = band.iter().map(|(at, _, high)| (*at, y.at(*high)));
            let lower = band.iter().rev().map(|(at, low, _)| (*at, y.at(*low)));
            area.draw(&Polygon::new(upper.chain(lower).collect::<Vec<_>>(), ink.mix(0.14).filled())).map_err(drop)?;
        } else if let [(at, low, high)] = band.as_slice() {
            line(area, (*at, y.at(*low)), (*at, y.at(*high)), ink)?;
        }
        let points: Vec<(i32, i32)> = stretch
            .iter()
            .filter_map(|(run, mark)| mark.value.map(|value| (x.at(*run as f64), y.at(value))))
            .collect();
        area.draw(&PathElement::new(points.clone(), ink.stroke_width(2))).map_err(drop)?;
        for point in &points {
            marker(area, series, *point)?;
        }
    }
    for (run, mark) in trend.marks.iter().enumerate() {
        if let (Some(value), Some(change)) = (mark.value, mark.change) {
            let (at, top) = (x.at(run as f64), y.at(value) - 22);
            area.draw(&Circle::new((at, y.at(value)), 9, INK.stroke_width(2))).map_err(drop)?;
            area.draw_text(
                change.words(),
                &font(13, INK).pos(plotters::style::text_anchor::Pos::new(HPos::Center, VPos::Center)),
                (at, top),
            )
            .map_err(drop)?;
        }
    }
    Ok(())
}

fn axis_label(unit: Unit, value: f64, step: f64) -> String {
    match unit {
        Unit::Share => percent(value, step),
        _ if step >= 1.0 => format!("{value:.0}"),
        _ => format!("{value:.3}"),
    }
}
