//! Charts for a terminal.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::symbols::Marker;
use ratatui::text::Span;
use ratatui::widgets::{Axis, Chart, Dataset, GraphType, Widget};

use fonex_core::measures::Unit;

use crate::charts::TrendLine;
use crate::figures::figure;

/// A trend as text, `width` columns wide: the line, and dotted edges of its band. One chart a series, so that it reads
/// without colour.
#[must_use]
pub fn terminal_trend(line: &TrendLine, unit: Unit, width: u16) -> String {
    let factor = if unit == Unit::Share { 100.0 } else { 1.0 };
    let at = |value: fn(&crate::charts::TrendMark) -> Option<f64>| -> Vec<(f64, f64)> {
        line.marks
            .iter()
            .enumerate()
            .filter_map(move |(run, mark)| Some((run as f64, value(mark)? * factor)))
            .collect()
    };
    let values = at(|mark| mark.value);
    let low = at(|mark| mark.interval.map(|i| i.0));
    let high = at(|mark| mark.interval.map(|i| i.1));
    let ends = || high.iter().chain(&values).chain(&low).map(|(_, y)| *y);
    let (bottom, top) = (ends().fold(0.0, f64::min), ends().fold(f64::MIN_POSITIVE, f64::max));
    let step = crate::charts::round_step((top - bottom) / 4.0);
    let (bottom, top) = ((bottom / step).floor() * step, (top / step).ceil() * step);
    let last = line.marks.len().saturating_sub(1) as f64;
    let dataset = |data, marker, graph| Dataset::default().marker(marker).graph_type(graph).data(data);
    let edge = |data| dataset(data, Marker::Dot, GraphType::Scatter);
    let (low, high) = (between(&low), between(&high));
    let datasets = vec![edge(&low[..]), edge(&high[..]), dataset(&values, Marker::Braille, GraphType::Line)];
    let y_labels: Vec<Span<'_>> =
        [bottom, f64::midpoint(bottom, top), top].iter().map(|y| Span::raw(figure(unit, Some(y / factor)))).collect();
    let x_labels: Vec<Span<'_>> = line.marks.iter().map(|mark| Span::raw(mark.label.clone())).collect();
    let room = usize::from(width) / 12;
    let every = x_labels.len().div_ceil(room.max(2)).max(1);
    let x_labels: Vec<Span<'_>> = x_labels.into_iter().step_by(every).collect();
    let chart = Chart::new(datasets)
        .x_axis(Axis::default().bounds([0.0, last.max(1.0)]).labels(x_labels))
        .y_axis(Axis::default().bounds([bottom, top]).labels(y_labels))
        .legend_position(None);
    let area = Rect::new(0, 0, width, 14);
    let mut buffer = Buffer::empty(area);
    chart.render(area, &mut buffer);
    let row = |y: u16| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
    (0..area.height).map(row).collect::<Vec<_>>().join("\n")
}

/// Fills the edge of a band between its points, so that scattered dots read as a line.
fn between(points: &[(f64, f64)]) -> Vec<(f64, f64)> {
    const STEPS: usize = 8;
    let mut filled: Vec<(f64, f64)> = points
        .windows(2)
        .flat_map(|pair| {
            let [(x0, y0), (x1, y1)] = [pair[0], pair[1]];
            (0..STEPS).map(move |step| {
                let share = step as f64 / STEPS as f64;
                (x0 + (x1 - x0) * share, y0 + (y1 - y0) * share)
            })
        })
        .collect();
    filled.extend(points.last());
    filled
}
