//! Latencies as the share of trials answered within a time: every percentile can be read off.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::{Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, legend, line, marker, text};

/// The latencies of one variant, in milliseconds.
#[derive(Debug, Clone, PartialEq)]
pub struct LatencySeries {
    /// Name of the variant.
    pub name: String,
    /// Latencies of answered trials, in any order.
    pub took_ms: Vec<f64>,
}

const WIDTH: u32 = 960;
const HEIGHT: u32 = 380;
const LEFT: i32 = 64;
const RIGHT: i32 = 930;
const TOP: i32 = 84;
const BOTTOM: i32 = 316;

/// Draws the chart, with a logarithmic time axis.
#[must_use]
pub fn latency_svg(title: &str, series: &[LatencySeries]) -> String {
    draw(WIDTH, HEIGHT, |area| {
        let all = || series.iter().flat_map(|s| s.took_ms.iter().copied()).filter(|ms| *ms > 0.0 && ms.is_finite());
        let low = all().fold(f64::INFINITY, f64::min).clamp(1e-3, 1e9);
        let high = all().fold(0.0, f64::max).max(low * 1.5);
        let ticks = log_ticks(low, high);
        let (first, last) = (ticks.first().copied().unwrap_or(low), ticks.last().copied().unwrap_or(high));
        let x = Scale { low: first.log10(), high: last.log10(), from: LEFT, to: RIGHT };
        let y = Scale { low: 0.0, high: 1.0, from: BOTTOM, to: TOP };
        text(area, title, (24, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = series.iter().map(|s| s.name.as_str()).collect();
        legend(area, &names, (30, 54))?;
        for share in [0.0, 0.25, 0.5, 0.75, 0.95] {
            line(area, (LEFT, y.at(share)), (RIGHT, y.at(share)), GRID)?;
            let label = format!("{:.0} %", share * 100.0);
            text(area, &label, (LEFT - 8, y.at(share)), anchored(13, QUIET, HPos::Right, VPos::Center))?;
        }
        for tick in ticks {
            let at = x.at(tick.log10());
            line(area, (at, TOP), (at, BOTTOM), GRID)?;
            text(area, &milliseconds(tick), (at, BOTTOM + 16), anchored(13, QUIET, HPos::Center, VPos::Center))?;
        }
        for (at, one) in series.iter().enumerate() {
            draw_series(area, at, one, x, y)?;
        }
        let axis = "share of trials answered within a time (logarithmic axis); markers at the median and the 95th percentile";
        text(area, axis, (24, HEIGHT as i32 - 18), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}

fn draw_series(area: &super::Area<'_>, series: usize, one: &LatencySeries, x: Scale, y: Scale) -> Drawn {
    let mut sorted: Vec<f64> = one.took_ms.iter().copied().filter(|ms| *ms > 0.0 && ms.is_finite()).collect();
    sorted.sort_unstable_by(f64::total_cmp);
    let count = sorted.len() as f64;
    let mut points: Vec<(i32, i32)> = Vec::new();
    for (rank, ms) in sorted.iter().enumerate() {
        let at = x.at(ms.log10());
        let [from, to] = [rank, rank + 1].map(|rank| (at, y.at(rank as f64 / count)));
        // Of a million trials most lie on one upright line with the one before.
        match points.as_mut_slice() {
            [.., before, last] if before.0 == at && last.0 == at => *last = to,
            _ => points.extend([from, to]),
        }
    }
    if points.is_empty() {
        return Ok(());
    }
    area.draw(&PathElement::new(points, colour(series).stroke_width(2))).map_err(drop)?;
    for share in [0.5, 0.95] {
        let ms = sorted[((share * count).ceil() as usize).clamp(1, sorted.len()) - 1];
        marker(area, series, (x.at(ms.log10()), y.at(share)))?;
    }
    Ok(())
}

/// 1, 2 and 5 times powers of ten that hold the range, thinned to powers of ten when there would be many.
fn log_ticks(low: f64, high: f64) -> Vec<f64> {
    let ticks = |steps: &[f64]| -> Vec<f64> {
        let powers = (low.log10().floor() as i32)..=(high.log10().ceil() as i32);
        let all: Vec<f64> = powers.flat_map(|p| steps.iter().map(move |s| s * 10_f64.powi(p))).collect();
        let first = all.iter().rposition(|t| *t <= low).unwrap_or(0);
        let last = all.iter().position(|t| *t >= high).unwrap_or(all.len() - 1);
        all[first..=last].to_vec()
    };
    let fine = ticks(&[1.0, 2.0, 5.0]);
    if fine.len() <= 12 { fine } else { ticks(&[1.0]) }
}

fn milliseconds(ms: f64) -> String {
    if ms >= 1000.0 { format!("{} s", ms / 1000.0) } else { format!("{ms} ms") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_page_does_not_grow_with_the_trials() {
        let svg = |count: u32| {
            let took_ms =
                (0..count).map(|i| 100.0 + f64::from(i * 7_919 % count) / f64::from(count) * 900.0).collect();
            latency_svg("Time to the answer", &[LatencySeries { name: "marl".into(), took_ms }])
        };
        assert!(svg(300_000).len() < 2 * svg(1_000).len());
        // All of it is there still: from nothing to every trial.
        let line = |svg: &str| {
            let points = svg.split("points=\"").map(|part| part.split('"').next().unwrap_or_default().to_owned());
            points.max_by_key(String::len).unwrap_or_default()
        };
        for count in [50, 300_000] {
            let drawn = line(&svg(count));
            let ends: Vec<&str> = drawn.split_whitespace().collect();
            assert!(
                ends[0].ends_with(&format!(",{BOTTOM}")) && ends[ends.len() - 1].ends_with(&format!(",{TOP}")),
                "{drawn}"
            );
        }
    }
}
