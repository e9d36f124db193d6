//! Charts for a terminal.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::symbols::Marker;
use ratatui::text::Span;
use ratatui::widgets::{Axis, Chart, Dataset, GraphType, Widget};

use fonex_core::measures::Unit;
use unicode_width::UnicodeWidthStr;

use crate::charts::TrendLine;
use crate::figures::figure;
use crate::readable::one_line;

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
    // The axis takes its row where it has labels; each run's own label is put at its place afterwards.
    let chart = Chart::new(datasets)
        .x_axis(Axis::default().bounds([0.0, last.max(1.0)]).labels([" ", " "]))
        .y_axis(Axis::default().bounds([bottom, top]).labels(y_labels))
        .legend_position(None);
    let area = Rect::new(0, 0, width, 14);
    let mut buffer = Buffer::empty(area);
    chart.render(area, &mut buffer);
    let row = |y: u16| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
    let mut rows: Vec<String> = (0..area.height).map(row).collect();
    if let Some(axis) = rows.iter().position(|row| row.contains('└')) {
        let left = rows[axis].chars().take_while(|c| *c != '└').count() + 1;
        let room = usize::from(width) - left;
        let columns: Vec<usize> = (0..line.marks.len())
            .map(|run| left + (run as f64 / last.max(1.0) * (room - 1) as f64).round() as usize)
            .collect();
        let labels: Vec<&str> = line.marks.iter().map(|mark| mark.label.as_str()).collect();
        rows[axis] = ticked(&rows[axis], &columns);
        rows.truncate(axis + 1);
        rows.push(labelled(&labels, &columns, usize::from(width)));
    }
    rows.join("\n")
}

/// The axis with a tick at each run.
fn ticked(axis: &str, columns: &[usize]) -> String {
    let tick = |(at, c): (usize, char)| if c == '─' && columns.contains(&at) { '┴' } else { c };
    axis.chars().enumerate().map(tick).collect()
}

/// Labels under their runs, the last one for certain; one that would run into another is left out, one that is longer than its
/// half of the row is cut.
fn labelled(labels: &[&str], columns: &[usize], width: usize) -> String {
    const MOST: usize = 14;
    let mut taken: Vec<(usize, usize, String)> = Vec::new();
    for (label, at) in labels.iter().zip(columns).rev() {
        let label = one_line(label);
        let shown: String =
            if label.width() > MOST { label.chars().take(MOST - 1).chain(['…']).collect() } else { label };
        let long = shown.width();
        let from = at.saturating_sub(long / 2).min(width.saturating_sub(long));
        let free = |(start, end, _): &(usize, usize, String)| from + long < *start || from > *end;
        if taken.iter().all(free) {
            taken.push((from, from + long, shown));
        }
    }
    let mut row = String::new();
    for (from, _, shown) in taken.iter().rev() {
        row += &" ".repeat(from.saturating_sub(row.width()));
        row += shown;
    }
    row
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::charts::TrendMark;

    fn drawn(labels: &[&str], width: u16) -> Vec<String> {
        let marks = labels.iter().enumerate().map(|(run, label)| TrendMark {
            label: (*label).to_owned(),
            value: Some(0.1 + run as f64 / 100.0),
            interval: Some((0.05, 0.3)),
            change: None,
            breaks: false,
            letters: String::new(),
        });
        let line = TrendLine { name: "a".to_owned(), marks: marks.collect() };
        terminal_trend(&line, Unit::Share, width).lines().map(str::to_owned).collect()
    }

    #[test]
    fn every_label_stands_under_the_tick_of_its_run() {
        let rows = drawn(&["w41", "w42", "w43", "w44", "w45"], 80);
        let [axis, labels] = [&rows[rows.len() - 2], &rows[rows.len() - 1]];
        let ticks: Vec<usize> = axis.chars().enumerate().filter(|(_, c)| *c == '┴').map(|(at, _)| at).collect();
        assert_eq!(ticks.len(), 5, "{axis}");
        for (tick, label) in ticks.iter().zip(["w41", "w42", "w43", "w44", "w45"]) {
            let at = labels.find(label).unwrap();
            assert!(tick.abs_diff(at + 1) <= 1, "{label} at {at}, its tick at {tick}\n{axis}\n{labels}");
        }
        assert!(rows.iter().all(|row| row.chars().count() <= 80));
    }

    #[test]
    fn labels_without_room_are_left_out_but_for_the_last() {
        let names: Vec<String> = (0..40).map(|run| format!("build-{run:04}")).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let labels = drawn(&names, 100).pop().unwrap();
        assert!(labels.ends_with("build-0039") && labels.contains("  "), "{labels}");
        assert!(labels.chars().count() <= 100, "{labels}");
        let shown: Vec<&str> = labels.split_whitespace().collect();
        assert!(shown.len() > 3 && shown.iter().all(|label| names.contains(label)), "{labels}");
        for one in [&["only"][..], &[], &["a label that is far too long for its place", "二〇二六年", "\u{1b}[31m"]]
        {
            assert!(drawn(one, 40).iter().all(|row| row.width() <= 40));
        }
    }
}
