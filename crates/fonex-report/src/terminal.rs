//! Charts for a terminal.

use fonex_core::measures::Unit;
use unicode_width::UnicodeWidthStr;

use crate::charts::TrendLine;
use crate::figures::figure;
use crate::readable::one_line;

/// Rows of a chart without its axis: odd, so that one is in the middle.
const ROWS: usize = 13;

/// A trend as text, `width` columns wide: the line, and dotted edges of its band. One chart a series, so that it reads
/// without colour.
#[must_use]
pub fn terminal_trend(line: &TrendLine, unit: Unit, width: u16) -> String {
    let width = usize::from(width);
    let at = |value: fn(&crate::charts::TrendMark) -> Option<f64>| -> Vec<(f64, f64)> {
        let marks = line.marks.iter().enumerate();
        marks.filter_map(|(run, mark)| Some((run as f64, value(mark)?))).collect()
    };
    let values = at(|mark| mark.value);
    let low = at(|mark| mark.interval.map(|i| i.0));
    let high = at(|mark| mark.interval.map(|i| i.1));
    // Steps are round where people read them: shares as percent.
    let factor = if unit == Unit::Share { 100.0 } else { 1.0 };
    let ends = || high.iter().chain(&values).chain(&low).map(|(_, y)| *y * factor);
    let (bottom, top) = (ends().fold(0.0, f64::min), ends().fold(f64::MIN_POSITIVE, f64::max));
    let step = crate::charts::round_step((top - bottom) / 4.0);
    let (bottom, top) = ((bottom / step).floor() * step / factor, (top / step).ceil() * step / factor);
    let last = line.marks.len().saturating_sub(1).max(1) as f64;

    let labels = [top, f64::midpoint(bottom, top), bottom].map(|y| figure(unit, Some(y)));
    let left = labels.iter().map(|label| label.width()).max().unwrap_or(0);
    let room = width.saturating_sub(left + 1);
    let mut canvas = Canvas::new(room, ROWS);
    let place = |(run, y): &(f64, f64)| (run / last, (y - bottom) / (top - bottom));
    for edge in [&low, &high] {
        between(edge).iter().for_each(|point| canvas.mark(place(point)));
    }
    values.first().iter().for_each(|only| canvas.line(place(only), place(only)));
    values.windows(2).for_each(|pair| canvas.line(place(&pair[0]), place(&pair[1])));

    let label = |row: usize| if row.is_multiple_of(ROWS / 2) { labels[row / (ROWS / 2)].as_str() } else { "" };
    let row = |row: usize| {
        let label = label(row);
        format!("{}{label}│{}", " ".repeat(left - label.width()), canvas.row(row)).trim_end().to_owned()
    };
    let mut rows: Vec<String> = (0..ROWS).map(row).collect();
    let columns: Vec<usize> = (0..line.marks.len())
        .map(|run| left + 1 + (run as f64 / last * room.saturating_sub(1) as f64).round() as usize)
        .collect();
    let named: Vec<&str> = line.marks.iter().map(|mark| mark.label.as_str()).collect();
    rows.push(ticked(&format!("{}└{}", " ".repeat(left), "─".repeat(room)), &columns));
    rows.push(labelled(&named, &columns, width));
    rows.join("\n")
}

/// Where lines are drawn in Braille patterns (Unicode, U+2800 and on), of two by four dots a character, over single marks.
struct Canvas {
    columns: usize,
    rows: usize,
    cells: Vec<char>,
}

impl Canvas {
    const NO_DOT: u32 = 0x2800;

    fn new(columns: usize, rows: usize) -> Self {
        Self { columns, rows, cells: vec![' '; columns * rows] }
    }

    /// The dot of a point from (0, 0), at the bottom left, to (1, 1): its column and row from the top.
    fn dot(&self, (x, y): (f64, f64)) -> (f64, f64) {
        let most = |dots: usize| dots.saturating_sub(1) as f64;
        (x.clamp(0.0, 1.0) * most(2 * self.columns), (1.0 - y.clamp(0.0, 1.0)) * most(4 * self.rows))
    }

    fn mark(&mut self, point: (f64, f64)) {
        let (x, y) = self.dot(point);
        let cell = y.round() as usize / 4 * self.columns + x.round() as usize / 2;
        if let Some(cell) = self.cells.get_mut(cell) {
            *cell = '•';
        }
    }

    fn line(&mut self, from: (f64, f64), to: (f64, f64)) {
        const DOTS: [[u32; 2]; 4] = [[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]];
        let ((x0, y0), (x1, y1)) = (self.dot(from), self.dot(to));
        let steps = (x1 - x0).abs().max((y1 - y0).abs()).ceil().max(1.0);
        for step in 0..=steps as usize {
            let share = step as f64 / steps;
            let [x, y] = [x0 + (x1 - x0) * share, y0 + (y1 - y0) * share].map(|dot| dot.round() as usize);
            if let Some(cell) = self.cells.get_mut(y / 4 * self.columns + x / 2) {
                let dots = u32::from(*cell).checked_sub(Self::NO_DOT).filter(|dots| *dots < 256).unwrap_or(0);
                *cell = char::from_u32(Self::NO_DOT + (dots | DOTS[y % 4][x % 2])).unwrap_or(' ');
            }
        }
    }

    fn row(&self, row: usize) -> String {
        self.cells[row * self.columns..][..self.columns].iter().collect()
    }
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

    /// Every run's value stands where the axis puts it: the row of a tick's dots against the value, by hand.
    #[test]
    fn a_line_goes_through_its_values() {
        let marks = [0.0, 1.0, 0.5].map(|value| TrendMark {
            label: "r".to_owned(),
            value: Some(value),
            interval: None,
            change: None,
            breaks: false,
            letters: String::new(),
        });
        let drawn = terminal_trend(&TrendLine { name: "a".to_owned(), marks: marks.into() }, Unit::Share, 48);
        let rows: Vec<Vec<char>> = drawn.lines().map(|row| row.chars().collect()).collect();
        assert_eq!(rows[0].iter().take(8).collect::<String>(), "100.0 %│");
        assert_eq!(rows[6].iter().take(8).collect::<String>(), " 50.0 %│");
        assert_eq!(rows[12].iter().take(8).collect::<String>(), "  0.0 %│");
        let is_drawn = |row: usize, column: usize| rows[row].get(column).is_some_and(|c| *c != ' ');
        // Forty columns behind the axis: the runs stand in the first, in the middle and in the last.
        assert!(is_drawn(12, 8) && (is_drawn(0, 27) || is_drawn(0, 28)) && is_drawn(6, 47), "{drawn}");
        assert!(!is_drawn(0, 8) && !is_drawn(12, 28) && !is_drawn(0, 47), "{drawn}");
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
