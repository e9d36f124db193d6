//! A measure over runs, with its interval as a band, changes and breaks marked.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use fonex_core::measures::Unit;

use crate::figures::figure;

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
    /// Letters for what is otherwise from this run on; the note says what they stand for.
    pub letters: String,
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
    /// Id of the measure: charts of one measure share a scale.
    pub measure: String,
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
const HEIGHT: u32 = 428;
const WHOLE: Frame = Frame { left: 64, right: 930, top: 84, bottom: 350 };
/// Height of one of several small charts, its name and labels with it.
const SMALL: i32 = 190;

/// Where a chart's lines are drawn.
#[derive(Debug, Clone, Copy)]
struct Frame {
    left: i32,
    right: i32,
    top: i32,
    bottom: i32,
}

/// Draws the chart.
#[must_use]
pub fn trend_svg(chart: &TrendChart) -> String {
    draw(WIDTH, HEIGHT, |area| {
        text(area, &chart.title, (WHOLE.left - 40, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = chart.lines.iter().map(|l| l.name.as_str()).collect();
        legend(area, &names, (WHOLE.left - 34, 54))?;
        draw_in(area, chart, WHOLE, reach(std::slice::from_ref(chart)), &names)?;
        text(area, &chart.note, (WHOLE.left - 40, HEIGHT as i32 - 14), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}

/// Draws several charts side by side, each small: those of one measure on one scale, so that they can be held against each
/// other.
#[must_use]
pub fn trends_svg(title: &str, charts: &[TrendChart]) -> String {
    let columns = if charts.len() <= 4 { 2 } else { 3 };
    let rows = charts.len().div_ceil(columns).max(1) as i32;
    let mut names: Vec<&str> = Vec::new();
    for name in charts.iter().flat_map(|chart| &chart.lines).map(|line| line.name.as_str()) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let height = (76 + rows * SMALL + 30) as u32;
    draw(WIDTH, height, |area| {
        text(area, title, (24, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        legend(area, &names, (30, 52))?;
        let wide = (WIDTH as i32 - 24) / columns as i32;
        for (at, chart) in charts.iter().enumerate() {
            let (row, column) = ((at / columns) as i32, (at % columns) as i32);
            let (left, top) = (24 + column * wide, 76 + row * SMALL);
            let name = shortened(&chart.title, (f64::from(wide) / 7.6) as usize);
            text(area, &name, (left, top + 10), anchored(13, INK, HPos::Left, VPos::Center))?;
            let of_measure: Vec<&TrendChart> = charts.iter().filter(|other| other.measure == chart.measure).collect();
            let frame = Frame { left: left + 56, right: left + wide - 24, top: top + 26, bottom: top + SMALL - 48 };
            draw_in(area, chart, frame, reach(of_measure), &names)?;
        }
        let note = charts.first().map_or("", |chart| chart.note.as_str());
        text(area, note, (24, height as i32 - 14), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}

/// The least and the greatest value that some charts have to show.
fn reach<'c>(charts: impl IntoIterator<Item = &'c TrendChart>) -> (f64, f64) {
    let (mut lowest, mut highest) = (0.0_f64, f64::MIN_POSITIVE);
    for chart in charts {
        let marks = chart.lines.iter().flat_map(|line| &line.marks);
        let ends =
            marks.flat_map(|mark| mark.interval.into_iter().flat_map(|(low, high)| [low, high]).chain(mark.value));
        for value in ends.chain(chart.limits.iter().map(|limit| limit.at)).filter(|value| value.is_finite()) {
            (lowest, highest) = (lowest.min(value), highest.max(value));
        }
    }
    (lowest, highest)
}

/// Draws the lines of a chart into a frame; a series has the colour of its name's place among `names`.
fn draw_in(
    area: &Area<'_>,
    chart: &TrendChart,
    frame: Frame,
    (lowest, highest): (f64, f64),
    names: &[&str],
) -> Drawn {
    let TrendChart { unit, lines, limits, .. } = chart;
    let runs = lines.iter().map(|l| l.marks.len()).max().unwrap_or(0);
    let (y, ticks) = Scale::around_zero(lowest * 1.08, highest * 1.08, frame.bottom, frame.top);
    let x = Scale { low: -0.5, high: runs as f64 - 0.5, from: frame.left, to: frame.right };
    // Ticks that would stand on each other are thinned out.
    let every = (18 * ticks.len() as i32 / (frame.bottom - frame.top).max(1) + 1) as usize;
    for tick in ticks.iter().step_by(every) {
        let at = y.at(*tick);
        line(area, (frame.left, at), (frame.right, at), GRID)?;
        let label = axis_label(*unit, *tick, ticks.get(1).map_or(1.0, |next| next - ticks[0]));
        text(area, &label, (frame.left - 6, at), anchored(12, QUIET, HPos::Right, VPos::Center))?;
    }
    run_labels(area, lines, frame, x, runs)?;
    for limit in limits {
        let at = y.at(limit.at);
        for step in (frame.left..frame.right).step_by(14) {
            line(area, (step, at), ((step + 8).min(frame.right), at), INK)?;
        }
    }
    for trend in lines {
        let series = names.iter().position(|name| *name == trend.name).unwrap_or_default();
        draw_series(area, series, trend, frame, x, y)?;
    }
    Ok(())
}

fn run_labels(area: &Area<'_>, lines: &[TrendLine], frame: Frame, x: Scale, runs: usize) -> Drawn {
    // Labels that would run into each other are thinned out, the last one kept.
    let room = (frame.right - frame.left) / runs.max(1) as i32;
    let longest = lines.iter().flat_map(|l| &l.marks).map(|m| m.label.chars().count().min(14)).max().unwrap_or(1);
    let every = ((longest as i32 * 8 + 10) / room.max(1) + 1).max(1) as usize;
    for (run, mark) in lines.first().map_or(&[][..], |l| &l.marks).iter().enumerate() {
        let at = x.at(run as f64);
        line(area, (at, frame.bottom), (at, frame.bottom + 4), QUIET)?;
        if (runs - 1 - run).is_multiple_of(every) {
            let label = shortened(&mark.label, 14);
            text(area, &label, (at, frame.bottom + 17), anchored(12, INK, HPos::Center, VPos::Center))?;
        }
        // The first line has the letters of all.
        if !mark.letters.is_empty() && room > 8 * mark.letters.len() as i32 {
            text(area, &mark.letters, (at, frame.bottom + 32), anchored(11, QUIET, HPos::Center, VPos::Center))?;
        }
    }
    Ok(())
}

fn draw_series(area: &Area<'_>, series: usize, trend: &TrendLine, frame: Frame, x: Scale, y: Scale) -> Drawn {
    let ink = colour(series);
    // The line and its band end at a break and restart behind it.
    let mut stretches: Vec<Vec<(usize, &TrendMark)>> = vec![Vec::new()];
    for (run, mark) in trend.marks.iter().enumerate() {
        if mark.breaks && stretches.last().is_some_and(|stretch| !stretch.is_empty()) {
            stretches.push(Vec::new());
            let at = x.at(run as f64 - 0.5);
            for step in (frame.top..frame.bottom).step_by(8) {
                line(area, (at, step), (at, (step + 4).min(frame.bottom)), QUIET)?;
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
            // Above its point, or below where that would leave the frame.
            let (at, point) = (x.at(run as f64), y.at(value));
            let top = if point - 30 < frame.top { point + 22 } else { point - 22 };
            let at = at.clamp(frame.left + 26, frame.right - 26);
            area.draw(&Circle::new((x.at(run as f64), point), 9, INK.stroke_width(2))).map_err(drop)?;
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
        _ if value == 0.0 => "0".to_owned(),
        _ if step >= 1.0 => figure(unit, Some(value)).replace(".0 ", " "),
        _ => format!("{value:.3}"),
    }
}
