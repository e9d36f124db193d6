//! Charts as SVG text. Every series has a colour, a marker and a dash of its own, so that none depends on colour.

mod corpus;
mod intervals;
mod latency;
mod plane;
mod sound;
mod trend;
mod turns;

pub use corpus::{Distribution, GroupBar, corpus_svg};
pub use intervals::{ChartWidth, IntervalAxis, IntervalRow, IntervalSeries, RateMark, interval_svg};
pub use latency::{LatencySeries, latency_svg};
pub use plane::{Guide, PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
pub use sound::{SoundLabel, SoundPicture, WAVE_COLUMNS, sound_svg};
pub use trend::{ChangeMark, TrendChart, TrendLimit, TrendLine, TrendMark, trend_svg, trends_svg};
pub use turns::{TurnBar, turns_svg};

use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

pub(crate) type Area<'s> = DrawingArea<SVGBackend<'s>, Shift>;

const INK: RGBColor = RGBColor(38, 43, 51);
const QUIET: RGBColor = RGBColor(104, 112, 124);
const GRID: RGBColor = RGBColor(222, 226, 232);

/// Colours that stay apart for colour-blind readers (Okabe and Ito, "Color universal design", 2008).
const COLOURS: [RGBColor; 6] = [
    RGBColor(0, 114, 178),
    RGBColor(213, 94, 0),
    RGBColor(0, 158, 115),
    RGBColor(204, 121, 167),
    RGBColor(86, 180, 233),
    RGBColor(150, 110, 0),
];

fn colour(series: usize) -> RGBColor {
    COLOURS[series % COLOURS.len()]
}

/// The backend writes sizes divided by this: it takes them for heights of a line, and SVG for heights of an em.
const LINE_HEIGHT: f64 = 1.24;

fn font(size: i32, colour: RGBColor) -> TextStyle<'static> {
    ("sans-serif", f64::from(size) * LINE_HEIGHT).into_font().color(&colour)
}

fn anchored(size: i32, colour: RGBColor, h: HPos, v: VPos) -> TextStyle<'static> {
    font(size, colour).pos(Pos::new(h, v))
}

/// Draws a marker: its shape identifies the series where colour does not.
fn marker(area: &Area<'_>, series: usize, (x, y): (i32, i32)) -> Drawn {
    let style = colour(series).filled();
    let polygon = |points: &[(i32, i32)]| {
        let points: Vec<(i32, i32)> = points.iter().map(|(dx, dy)| (x + dx, y + dy)).collect();
        area.draw(&Polygon::new(points, style))
    };
    match series % 4 {
        0 => area.draw(&Circle::new((x, y), 5, style)),
        1 => polygon(&[(-5, -5), (5, -5), (5, 5), (-5, 5)]),
        2 => polygon(&[(0, -6), (6, 5), (-6, 5)]),
        _ => polygon(&[(0, -7), (7, 0), (0, 7), (-7, 0)]),
    }
    .map_err(drop)
}

/// A line between two points of the picture.
fn line(area: &Area<'_>, from: (i32, i32), to: (i32, i32), style: impl Into<ShapeStyle>) -> Drawn {
    area.draw(&PathElement::new(vec![from, to], style)).map_err(drop)
}

/// The names of the series in one row from `x` on, each with its marker; shortened where they would not fit.
fn legend(area: &Area<'_>, names: &[&str], (left, top): (i32, i32)) -> Drawn {
    const APART: i32 = 30;
    const ROW: i32 = 18;
    let room = area.dim_in_pixel().0 as i32 - 24 - left;
    let wide = names.iter().map(|name| APART + estimated_width(name, 13)).sum::<i32>() > room;
    let in_row = if wide { names.len().div_ceil(2).max(1) } else { names.len().max(1) };
    let each = room / in_row as i32 - APART;
    let most = if wide { (f64::from(each.max(0)) / (13.0 * LETTER_WIDTH)) as usize } else { usize::MAX };
    let mut x = left;
    for (series, name) in shortened_apart(names, most).into_iter().enumerate() {
        let (row, column) = ((series / in_row) as i32, (series % in_row) as i32);
        if wide {
            x = left + column * (each + APART);
        }
        let y = top + row * ROW;
        marker(area, series, (x, y))?;
        text(area, &name, (x + 11, y), anchored(13, INK, HPos::Left, VPos::Center))?;
        x += APART + estimated_width(&name, 13);
    }
    Ok(())
}

fn text(area: &Area<'_>, words: &str, at: (i32, i32), style: TextStyle<'_>) -> Drawn {
    area.draw_text(words, &style, at).map_err(drop)
}

/// The width of Inter's average letter, as a share of its size.
const LETTER_WIDTH: f64 = 0.58;

/// About how wide a text is.
fn estimated_width(words: &str, size: i32) -> i32 {
    (words.chars().count() as f64 * f64::from(size) * LETTER_WIDTH) as i32
}

/// A text of at most so many characters, the last an ellipsis where it was longer.
#[must_use]
pub fn shortened(words: &str, most: usize) -> String {
    if words.chars().count() <= most {
        return words.to_owned();
    }
    words.chars().take(most.saturating_sub(1)).chain(['…']).collect()
}

/// Names of at most so many characters. Those that would become the same keep their ends instead of their middles.
fn shortened_apart(names: &[&str], most: usize) -> Vec<String> {
    let cut: Vec<String> = names.iter().map(|name| shortened(name, most)).collect();
    let is_clear = |at: usize| (0..names.len()).all(|other| cut[other] != cut[at] || names[other] == names[at]);
    let with_end = |name: &str| {
        let letters: Vec<char> = name.chars().collect();
        let kept = most.saturating_sub(1);
        if letters.len() <= most || kept < 2 {
            return shortened(name, most);
        }
        let end = kept / 2;
        letters[..kept - end].iter().chain(&['…']).chain(&letters[letters.len() - end..]).collect()
    };
    (0..names.len()).map(|at| if is_clear(at) { cut[at].clone() } else { with_end(names[at]) }).collect()
}

/// A scale from values to picture coordinates.
#[derive(Clone, Copy)]
struct Scale {
    low: f64,
    high: f64,
    from: i32,
    to: i32,
}

impl Scale {
    fn at(&self, value: f64) -> i32 {
        // Far off the picture is far enough.
        let share = ((value - self.low) / (self.high - self.low).max(f64::MIN_POSITIVE)).clamp(-4.0, 5.0);
        self.from + (f64::from(self.to - self.from) * share).round() as i32
    }

    /// A scale from zero to a round number above `most`, and its ticks.
    fn from_zero(most: f64, from: i32, to: i32) -> (Self, Vec<f64>) {
        let most = if most.is_finite() { most } else { 1.0 };
        let step = round_step(most.max(1e-9) / 5.0);
        let steps = (most / step).ceil().max(1.0) as i32;
        let high = step * f64::from(steps);
        (Self { low: 0.0, high, from, to }, (0..=steps).map(|i| step * f64::from(i)).collect())
    }

    /// A scale that holds zero and both ends, with round ticks.
    fn around_zero(least: f64, most: f64, from: i32, to: i32) -> (Self, Vec<f64>) {
        if least >= 0.0 || !least.is_finite() || !most.is_finite() {
            return Self::from_zero(most, from, to);
        }
        let step = round_step((most.max(0.0) - least).max(1e-9) / 5.0);
        let (below, above) = ((least / step).floor() as i32, (most.max(0.0) / step).ceil() as i32);
        let scale = Self { low: step * f64::from(below), high: step * f64::from(above), from, to };
        (scale, (below..=above).map(|i| step * f64::from(i)).collect())
    }
}

/// The smallest of 1, 2, 5 times a power of ten that is at least `least`.
pub(crate) fn round_step(least: f64) -> f64 {
    let power = 10_f64.powf(least.log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|step| *step >= least * 0.999).unwrap_or(power * 10.0)
}

/// A share as per cent with as many places as its step needs.
fn percent(share: f64, step: f64) -> String {
    if step < 0.01 { format!("{:.1} %", share * 100.0) } else { format!("{:.0} %", share * 100.0) }
}

/// Drawing into a text cannot fail; the backend's error type only says so less clearly.
type Drawn = Result<(), ()>;

/// Runs a drawing and gives the SVG.
fn draw(width: u32, height: u32, drawing: impl FnOnce(&Area<'_>) -> Drawn) -> String {
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (width, height)).into_drawing_area();
        let drawn =
            area.fill(&WHITE).map_err(drop).and_then(|()| drawing(&area)).and_then(|()| area.present().map_err(drop));
        drawn.expect("an SVG in memory can always be written");
    }
    // A name may hold control characters, which XML 1.0 has no way to write.
    svg.chars().map(|c| if c.is_control() && !matches!(c, '\n' | '\t') { '\u{fffd}' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cut_names_stay_different() {
        let names = ["engine/en-gb slow", "engine/en-gb fast", "short"];
        assert_eq!(shortened_apart(&names, 10), ["engin…slow", "engin…fast", "short"]);
        assert_eq!(shortened_apart(&names, 40), names);
        assert_eq!(shortened_apart(&["alpha-one", "beta-two"], 5), ["alph…", "beta…"]);
    }
}
