//! Points and lines over two axes: reliability, drift, load, windows, growth with length.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::{
    Area, Drawn, GRID, INK, QUIET, Scale, anchored, colour, draw, legend, line, marker, round_step, shortened, text,
};

/// A chart of points over two axes.
#[derive(Debug, Clone, Default)]
pub struct PlaneChart {
    /// What it shows.
    pub title: String,
    /// The horizontal axis.
    pub x: PlaneAxis,
    /// The vertical axis.
    pub y: PlaneAxis,
    /// What is drawn.
    pub series: Vec<PlaneSeries>,
    /// Straight lines to compare with, such as a diagonal or a fit, each with its words.
    pub guides: Vec<Guide>,
    /// Whether a unit is as long on either axis, as on a map.
    pub equal_units: bool,
    /// One line below.
    pub note: String,
}

/// One axis.
#[derive(Debug, Clone, Default)]
pub struct PlaneAxis {
    /// What it measures, with its unit.
    pub label: String,
    /// Whether shares are written as per cent.
    pub percent: bool,
    /// Whether zero is on it whatever the values.
    pub from_zero: bool,
    /// Its end, where that is known: a share ends at 1.
    pub to: Option<f64>,
    /// Whether equal steps are equal factors; what is not above zero is left out.
    pub log: bool,
}

/// One set of points.
#[derive(Debug, Clone, Default)]
pub struct PlaneSeries {
    /// Its name in the legend.
    pub name: String,
    /// The points, in the order a line joins them.
    pub points: Vec<(f64, f64)>,
    /// Words beside each point; none, or as many as points.
    pub labels: Vec<String>,
    /// How it is drawn.
    pub form: PlaneForm,
    /// The interval of each point along the vertical axis; none, or as many as points.
    pub intervals: Vec<Option<(f64, f64)>>,
}

/// How a set of points is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PlaneForm {
    /// Large markers joined by a line.
    #[default]
    Line,
    /// Small dots, for many points.
    Dots,
    /// Large markers that no line joins.
    Marks,
}

/// A straight line to compare with.
#[derive(Debug, Clone)]
pub struct Guide {
    /// Where it begins.
    pub from: (f64, f64),
    /// Where it ends.
    pub to: (f64, f64),
    /// What it means.
    pub words: String,
}

const WIDTH: u32 = 960;
const HEIGHT: u32 = 440;
const LEFT: i32 = 84;
const RIGHT: i32 = 930;
const TOP: i32 = 108;
const BOTTOM: i32 = 356;
/// More points than this in one series are thinned evenly.
const MOST_POINTS: usize = 6_000;

/// Draws the chart.
#[must_use]
pub fn plane_svg(chart: &PlaneChart) -> String {
    draw(WIDTH, HEIGHT, |area| {
        let placed = |series: &PlaneSeries| PlaneSeries { points: on_axes(&series.points, chart), ..series.clone() };
        let finite = |guide: &&Guide| [guide.from, guide.to].iter().all(|(x, y)| x.is_finite() && y.is_finite());
        let guides = chart.guides.iter().filter(finite).cloned().collect();
        let chart = &PlaneChart { series: chart.series.iter().map(placed).collect(), guides, ..chart.clone() };
        let points = || chart.series.iter().flat_map(|series| &series.points);
        let guided = || chart.guides.iter().flat_map(|guide| [guide.from, guide.to]);
        let bounds =
            chart.series.iter().flat_map(|series| &series.intervals).flatten().flat_map(|(low, high)| [*low, *high]);
        let (x, x_ticks) = scale(&chart.x, points().map(|p| p.0).chain(guided().map(|p| p.0)), LEFT, RIGHT);
        let (y, y_ticks) =
            scale(&chart.y, points().map(|p| p.1).chain(guided().map(|p| p.1)).chain(bounds), BOTTOM, TOP);
        let ((x, x_ticks), (y, y_ticks)) =
            if chart.equal_units { equal_units(x, y) } else { ((x, x_ticks), (y, y_ticks)) };
        text(area, &chart.title, (24, 26), anchored(17, INK, HPos::Left, VPos::Center))?;
        let names: Vec<&str> = chart.series.iter().map(|series| series.name.as_str()).collect();
        if names.iter().any(|name| !name.is_empty()) {
            legend(area, &names, (30, 54))?;
        }
        for tick in &y_ticks {
            line(area, (LEFT, y.at(*tick)), (RIGHT, y.at(*tick)), GRID)?;
            let label = written(*tick, &chart.y, &y_ticks);
            text(area, &label, (LEFT - 8, y.at(*tick)), anchored(13, QUIET, HPos::Right, VPos::Center))?;
        }
        for tick in &x_ticks {
            line(area, (x.at(*tick), TOP), (x.at(*tick), BOTTOM), GRID)?;
            let label = written(*tick, &chart.x, &x_ticks);
            text(area, &label, (x.at(*tick), BOTTOM + 16), anchored(13, QUIET, HPos::Center, VPos::Center))?;
        }
        let mut words_at: Vec<i32> = Vec::new();
        for guide in &chart.guides {
            draw_guide(area, guide, x, y, &mut words_at)?;
        }
        for (at, series) in chart.series.iter().enumerate() {
            draw_series(area, at, series, x, y)?;
        }
        draw_labels(area, chart, x, y)?;
        text(area, &chart.x.label, ((LEFT + RIGHT) / 2, BOTTOM + 38), anchored(13, INK, HPos::Center, VPos::Center))?;
        text(area, &chart.y.label, (24, TOP - 22), anchored(13, INK, HPos::Left, VPos::Center))?;
        text(area, &chart.note, (24, HEIGHT as i32 - 16), anchored(12, QUIET, HPos::Left, VPos::Center))
    })
}

fn draw_guide(area: &Area<'_>, guide: &Guide, x: Scale, y: Scale, words_at: &mut Vec<i32>) -> Drawn {
    let [from, to] = [guide.from, guide.to].map(|(a, b)| (x.at(a), y.at(b)));
    // Dashes by hand: the SVG backend draws none.
    let length = f64::from((to.0 - from.0).pow(2) + (to.1 - from.1).pow(2)).sqrt();
    let dashes = (length / 10.0).ceil().max(1.0) as i32;
    let between = |share: f64| {
        let along = |a: i32, b: i32| a + (f64::from(b - a) * share).round() as i32;
        (along(from.0, to.0), along(from.1, to.1))
    };
    for dash in 0..dashes {
        let [start, end] = [0.0, 0.55].map(|part| between((f64::from(dash) + part) / f64::from(dashes)));
        line(area, start, end, INK)?;
    }
    // Beside its end, inside the picture.
    let below = to.1 < TOP + 24;
    let mut height = if below { to.1 + 16 } else { to.1 - 10 };
    while words_at.iter().any(|taken| (taken - height).abs() < 15) {
        height -= 15;
    }
    words_at.push(height);
    text(area, &guide.words, (to.0 - 6, height), anchored(12, INK, HPos::Right, VPos::Center))
}

fn draw_series(area: &Area<'_>, at: usize, series: &PlaneSeries, x: Scale, y: Scale) -> Drawn {
    if series.points.is_empty() {
        return Ok(());
    }
    let places: Vec<(i32, i32)> = series.points.iter().map(|(a, b)| (x.at(*a), y.at(*b))).collect();
    if series.form == PlaneForm::Line && places.len() > 1 {
        area.draw(&PathElement::new(places.clone(), colour(at).stroke_width(2))).map_err(drop)?;
    }
    for (place, interval) in places.iter().zip(&series.intervals) {
        if let Some((low, high)) = interval {
            let (top, bottom) = (y.at(*high), y.at(*low));
            let bar = [(place.0, top), (place.0, bottom)];
            area.draw(&PathElement::new(bar.to_vec(), colour(at).mix(0.7).stroke_width(2))).map_err(drop)?;
            for end in [top, bottom] {
                line(area, (place.0 - 4, end), (place.0 + 4, end), colour(at))?;
            }
        }
    }
    match series.form {
        PlaneForm::Dots => {
            let every = places.len().div_ceil(MOST_POINTS).max(1);
            for place in places.iter().step_by(every) {
                area.draw(&Circle::new(*place, 2, colour(at).mix(0.65).filled())).map_err(drop)?;
            }
        }
        PlaneForm::Line | PlaneForm::Marks => {
            places.iter().try_for_each(|place| marker(area, at, *place))?;
        }
    }
    Ok(())
}

/// Writes the words beside the points: each at the first place near its point where it meets no other and stays in the
/// picture; none where there is no such place.
fn draw_labels(area: &Area<'_>, chart: &PlaneChart, x: Scale, y: Scale) -> Drawn {
    const HEIGHT_PX: i32 = 14;
    const MARK_PX: i32 = 6;
    // No name stands on a mark.
    let named = chart.series.iter().filter(|series| series.labels.iter().any(|label| !label.is_empty()));
    let marks = named.flat_map(|series| &series.points).map(|(a, b)| (x.at(*a), y.at(*b)));
    let mut taken: Vec<(i32, i32, i32, i32)> =
        marks.map(|(px, py)| (px - MARK_PX, py - MARK_PX, px + MARK_PX, py + MARK_PX)).collect();
    for series in &chart.series {
        for ((a, b), label) in series.points.iter().zip(&series.labels).filter(|(_, label)| !label.is_empty()) {
            let label = shortened(label, 24);
            let width = super::estimated_width(&label, 12);
            let (px, py) = (x.at(*a), y.at(*b));
            let beside = [9, -9 - width];
            let heights = [-14, 16, -30, 32, -46, 48, -62];
            let boxes = heights
                .into_iter()
                .flat_map(|dy| beside.map(|dx| (dx, dy)))
                .map(|(dx, dy)| (px + dx, py + dy - HEIGHT_PX / 2, px + dx + width, py + dy + HEIGHT_PX / 2));
            let free = |one: &&(i32, i32, i32, i32)| {
                let meets = |other: &(i32, i32, i32, i32)| {
                    one.0 < other.2 && other.0 < one.2 && one.1 < other.3 && other.1 < one.3
                };
                let inside = one.0 > LEFT && one.2 < RIGHT + 10 && one.1 > TOP - 20 && one.3 < BOTTOM + 30;
                inside && !taken.iter().any(meets)
            };
            // Where there is no room a label would only hide others.
            let Some(place) = boxes.into_iter().find(|one| free(&one)) else { continue };
            taken.push(place);
            // What lies behind a label must not run through it.
            let behind =
                Rectangle::new([(place.0, place.1), (place.0 + width * 9 / 10, place.3)], WHITE.mix(0.8).filled());
            area.draw(&behind).map_err(drop)?;
            text(area, &label, (place.0, (place.1 + place.3) / 2), anchored(12, INK, HPos::Left, VPos::Center))?;
        }
    }
    Ok(())
}

/// Points as they stand on the axes: their logarithms on a logarithmic one.
fn on_axes(points: &[(f64, f64)], chart: &PlaneChart) -> Vec<(f64, f64)> {
    let place = |value: f64, axis: &PlaneAxis| if axis.log { value.log10() } else { value };
    let placed = points.iter().map(|(x, y)| (place(*x, &chart.x), place(*y, &chart.y)));
    placed.filter(|(x, y)| x.is_finite() && y.is_finite()).collect()
}

/// A scale that holds the values, with round ticks; on a logarithmic axis all are logarithms.
fn scale(axis: &PlaneAxis, values: impl Iterator<Item = f64>, from: i32, to: i32) -> (Scale, Vec<f64>) {
    let values = values.filter(|value| value.is_finite());
    let (mut low, mut high) = values.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| (a.min(v), b.max(v)));
    if low > high {
        (low, high) = (0.0, 1.0);
    }
    if axis.from_zero {
        (low, high) = (low.min(0.0), high.max(0.0));
    }
    if let Some(end) = axis.to {
        high = high.max(end);
    }
    let size = low.abs().max(high.abs()).max(1.0);
    if high - low < 1e-9 * size {
        (low, high) = (low - size, high + size);
    }
    if axis.log {
        // No number has a logarithm beyond these.
        (low, high) = (low.clamp(-300.0, 299.0), high.clamp(-299.0, 300.0));
        let steps: Vec<f64> = (low.floor() as i32 - 1..=high.ceil() as i32)
            .flat_map(|power| [0.0, 2_f64.log10(), 5_f64.log10()].map(|part| f64::from(power) + part))
            .collect();
        let first = steps.iter().rposition(|tick| *tick <= low).unwrap_or(0);
        let last = steps.iter().position(|tick| *tick >= high).unwrap_or(steps.len() - 1);
        let ticks = steps[first..=last].to_vec();
        let many = ticks.len() > 10;
        let shown = ticks.iter().copied().filter(|tick| !many || (tick - tick.round()).abs() < 1e-9).collect();
        return (Scale { low: ticks[0], high: ticks[ticks.len() - 1], from, to }, shown);
    }
    let step = round_step((high - low) / 6.0);
    let first = (low / step + 1e-9).floor();
    let last = (high / step - 1e-9).ceil();
    let ticks = (0..=(last - first) as i32).map(|i| (first + f64::from(i)) * step).collect();
    (Scale { low: first * step, high: last * step, from, to }, ticks)
}

/// The same middles with the longer unit of the two on either axis, and ticks at the same steps.
fn equal_units(x: Scale, y: Scale) -> ((Scale, Vec<f64>), (Scale, Vec<f64>)) {
    let unit = |scale: Scale| (scale.high - scale.low) / f64::from((scale.to - scale.from).abs());
    // With room around the outermost points, for their marks and names.
    let longest = 1.2 * unit(x).max(unit(y));
    let step = round_step(longest * 60.0);
    let widened = |scale: Scale| {
        let (middle, half) =
            (f64::midpoint(scale.low, scale.high), longest * f64::from((scale.to - scale.from).abs()) / 2.0);
        let (low, high) = (middle - half, middle + half);
        let ticks = ((low / step).ceil() as i32..=(high / step).floor() as i32).map(|at| f64::from(at) * step);
        (Scale { low, high, ..scale }, ticks.collect())
    };
    (widened(x), widened(y))
}

fn written(tick: f64, axis: &PlaneAxis, ticks: &[f64]) -> String {
    if axis.log {
        let places = (-tick.floor()).clamp(0.0, 6.0) as usize;
        return format!("{:.places$}", 10_f64.powf(tick));
    }
    let step = ticks.get(1).map_or(1.0, |second| second - ticks[0]);
    // No minus zero.
    let tick = if tick.abs() < step / 1e3 { 0.0 } else { tick };
    if axis.percent {
        return super::percent(tick, step);
    }
    let places = (-step.log10()).ceil().clamp(0.0, 6.0) as usize;
    format!("{tick:.places$}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_one_point_and_far_points_all_draw() {
        for points in [vec![], vec![(1.0, 2.0)], vec![(-1e9, f64::NAN), (3.0, 1e12)]] {
            let series = PlaneSeries { name: "a <b>".to_owned(), points, ..PlaneSeries::default() };
            let svg = plane_svg(&PlaneChart { series: vec![series], ..PlaneChart::default() });
            assert!(svg.starts_with("<svg") && !svg.contains("<b>") && !svg.contains("NaN"));
        }
    }

    #[test]
    fn a_unit_of_a_map_is_as_long_either_way() {
        let axis = PlaneAxis::default();
        let of = |values: [f64; 2], from, to| scale(&axis, values.into_iter(), from, to).0;
        let ((x, x_ticks), (y, y_ticks)) = equal_units(of([-1.0, 2.0], 0, 900), of([-5.0, 5.0], 300, 0));
        assert!((x.at(1.0) - x.at(0.0) - (y.at(0.0) - y.at(1.0))).abs() <= 1);
        assert!(x.at(-1.0) > 0 && x.at(2.0) < 900 && y.at(5.0) >= 0 && y.at(-5.0) <= 300);
        assert!(x_ticks[1] - x_ticks[0] == y_ticks[1] - y_ticks[0]);
    }

    #[test]
    fn ticks_are_round_and_hold_the_values() {
        let axis = PlaneAxis::default();
        let (scale, ticks) = scale(&axis, [-37.0, 212.0].into_iter(), 0, 100);
        assert_eq!((scale.low, scale.high, ticks.len()), (-50.0, 250.0, 7));
        assert_eq!(written(ticks[0], &axis, &ticks), "-50");
    }
}
