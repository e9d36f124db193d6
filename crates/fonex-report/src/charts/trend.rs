//! A rate over runs, with its interval as a band and the regressions marked.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

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
    /// The rate; none where the series has no such run.
    pub value: Option<f64>,
    /// Its interval.
    pub interval: Option<(f64, f64)>,
    /// `Some(true)` for a proven step to the worse, `Some(false)` to the better.
    pub worse: Option<bool>,
}

const WIDTH: u32 = 960;
const HEIGHT: u32 = 420;
const LEFT: i32 = 64;
const RIGHT: i32 = 930;
const TOP: i32 = 84;
const BOTTOM: i32 = 350;

/// Draws the chart.
#[must_use]
pub fn trend_svg(title: &str, lines: &[TrendLine]) -> String {
    draw(WIDTH, HEIGHT, |area| {
        let runs = lines.iter().map(|l| l.marks.len()).max().unwrap_or(0);
        let highest = lines
            .iter()
            .flat_map(|l| &l.marks)
            .filter_map(|mark| mark.interval.map(|(_, high)| high).or(mark.value))
            .fold(0.01_f64, f64::max);
        let (y, ticks) = Scale::from_zero(highest * 1.08, BOTTOM, TOP);
        let x = Scale { low: -0.5, high: runs as f64 - 0.5, from: LEFT, to: RIGHT };
        text(area, title, (LEFT - 40, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = lines.iter().map(|l| l.name.as_str()).collect();
        legend(area, &names, (LEFT - 34, 54))?;
        for tick in &ticks {
            let at = y.at(*tick);
            line(area, (LEFT, at), (RIGHT, at), GRID)?;
            let label = percent(*tick, ticks[1]);
            text(area, &label, (LEFT - 8, at), anchored(13, QUIET, HPos::Right, VPos::Center))?;
        }
        run_labels(area, lines, x, runs)?;
        for (series, trend) in lines.iter().enumerate() {
            draw_series(area, series, trend, x, y)?;
        }
        text(
            area,
            "word error rate; the band is its 95 % interval; ▲ worse, ▼ better than the run before, beyond chance",
            (LEFT - 40, HEIGHT as i32 - 16),
            anchored(12, QUIET, HPos::Left, VPos::Center),
        )
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
    let band: Vec<(i32, f64, f64)> = trend
        .marks
        .iter()
        .enumerate()
        .filter_map(|(run, mark)| mark.interval.map(|(low, high)| (x.at(run as f64), low, high)))
        .collect();
    if band.len() > 1 {
        let upper = band.iter().map(|(at, _, high)| (*at, y.at(*high)));
        let lower = band.iter().rev().map(|(at, low, _)| (*at, y.at(*low)));
        area.draw(&Polygon::new(upper.chain(lower).collect::<Vec<_>>(), ink.mix(0.14).filled())).map_err(drop)?;
    }
    let points: Vec<(i32, i32)> = trend
        .marks
        .iter()
        .enumerate()
        .filter_map(|(run, mark)| mark.value.map(|value| (x.at(run as f64), y.at(value))))
        .collect();
    area.draw(&PathElement::new(points.clone(), ink.stroke_width(2))).map_err(drop)?;
    for point in &points {
        marker(area, series, *point)?;
    }
    for (run, mark) in trend.marks.iter().enumerate() {
        if let (Some(value), Some(worse)) = (mark.value, mark.worse) {
            let (at, top) = (x.at(run as f64), y.at(value) - 22);
            let (sign, word) = if worse { ("▲", "worse") } else { ("▼", "better") };
            area.draw(&Circle::new((at, y.at(value)), 9, INK.stroke_width(2))).map_err(drop)?;
            let words = format!("{sign} {word}");
            area.draw_text(
                &words,
                &font(13, INK).pos(plotters::style::text_anchor::Pos::new(HPos::Center, VPos::Center)),
                (at, top),
            )
            .map_err(drop)?;
        }
    }
    Ok(())
}
