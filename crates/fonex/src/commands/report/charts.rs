//! The charts of the report.

use fonex_analysis::{Followed, RunView, Side, by_kind, follow, locate};
use fonex_core::measures::{Mattering, Measure, find};
use fonex_core::verdict::DrawnUnit;
use fonex_report::ChartFigure;
use fonex_report::charts::{
    ChartWidth, Guide, IntervalAxis, IntervalRow, IntervalSeries, LatencySeries, PlaneAxis, PlaneChart, PlaneForm,
    PlaneSeries, RateMark, interval_svg, latency_svg, plane_svg, trend_svg,
};
use fonex_store::Store;

use super::names::Names;
use crate::commands::trend;
use crate::failure::Failure;
use crate::output::{self, plural};

/// Tags with more values than this are not charted.
const MOST_SLICES: usize = 8;
/// Points drawn of one variant at most.
const MOST_POINTS: usize = 4_000;
/// Series of one chart; the caption names those beyond.
const MOST_SERIES: usize = 12;
/// Series of dots, which must stay apart.
const MOST_DOTTED: usize = 4;

/// All charts that have something to show.
pub fn charts(
    (store, unit, mattering): (&Store, Option<DrawnUnit>, &Mattering),
    names: &Names<'_>,
    runs: &[RunView],
    sides: &[Side<'_>],
) -> Result<Vec<ChartFigure>, Failure> {
    let mut charts = Vec::new();
    if let Some(wer) = find("wer") {
        charts.extend(intervals(names, sides, wer));
        if runs.len() > 2 {
            charts.extend(over_runs(store, runs, wer, (unit, mattering))?);
        }
    }
    charts.extend(drift(store, names, sides)?);
    // How long a recogniser takes to hear a voice says nothing of the voice.
    let kinds = [Some("recogniser"), Some("synthesiser"), None, Some("responder")];
    for (group, what) in by_kind(sides).iter().zip(kinds).filter_map(|(group, what)| Some((group, what?))) {
        charts.extend(latencies(store, names, group, what)?);
    }
    Ok(charts)
}

/// What a chart had no room for.
fn left_out(names: &Names<'_>, sides: &[Side<'_>], most: usize) -> String {
    let rest: Vec<String> = sides.iter().skip(most).map(|side| names.of(*side)).collect();
    output::not_drawn(&rest)
}

fn intervals(names: &Names<'_>, sides: &[Side<'_>], measure: &Measure) -> Option<ChartFigure> {
    let all: Vec<Side<'_>> =
        sides.iter().copied().filter(|side| side.variant.measures.get(measure.id).is_some()).collect();
    let scored: Vec<Side<'_>> = all.iter().copied().take(MOST_SERIES).collect();
    let first = scored.first()?.variant;
    let mut rows = vec![(None, IntervalRow { name: "all clips".to_owned(), size: plural(first.clips, "clip") })];
    for slice in &first.slices {
        let values = first.slices.iter().filter(|other| other.by == slice.by).count();
        if (2..=MOST_SLICES).contains(&values) && slice.by != "speaker" {
            let name = format!("{} = {}", slice.by, slice.value);
            rows.push((Some(slice), IntervalRow { name, size: plural(slice.clips, "clip") }));
        }
    }
    let series: Vec<IntervalSeries> = scored
        .iter()
        .map(|side| IntervalSeries {
            name: names.of(*side),
            values: rows
                .iter()
                .map(|(slice, _)| {
                    let measures = match slice {
                        None => &side.variant.measures,
                        Some(slice) => &side.variant.same_slice(slice)?.measures,
                    };
                    let estimate = measures.get(measure.id)?;
                    Some(RateMark { value: estimate.value, interval: estimate.interval.map(|i| (i.low, i.high)) })
                })
                .collect(),
        })
        .collect();
    let rows: Vec<IntervalRow> = rows.into_iter().map(|(_, row)| row).collect();
    let axis = ("word error rate; bars are 95 % intervals over clips", IntervalAxis::Share);
    let drawn = |width| interval_svg("Word error rate", axis, &rows, &series, width);
    let (svg, narrow) = (drawn(ChartWidth::Wide), Some(drawn(ChartWidth::Narrow)));
    let caption = format!(
        "Word error rate of each variant, over all clips and by slice.{}",
        left_out(names, &all, MOST_SERIES)
    );
    Some(ChartFigure { narrow, svg, caption })
}

fn over_runs(
    store: &Store,
    runs: &[RunView],
    measure: &'static Measure,
    (unit, mattering): (Option<DrawnUnit>, &Mattering),
) -> Result<Option<ChartFigure>, Failure> {
    let matters = measure.matters(mattering);
    let mut all = Vec::new();
    for variant in trend::variants(runs, measure, None) {
        all.push(follow(store, runs, Followed { variant, measure, slice: None, unit, matters })?);
    }
    all.iter_mut().try_for_each(|series| locate(store, runs, series))?;
    let lines: Vec<String> = all.iter().flat_map(trend::in_words).map(|line| line.trim().to_owned()).collect();
    Ok(trend::charts(&all, &trend::Limits::default(), None, trend::At::Label).first().map(|chart| {
        let told =
            if lines.is_empty() { "No significant change.".to_owned() } else { format!("{}.", lines.join("; ")) };
        ChartFigure {
            narrow: None,
            svg: trend_svg(chart),
            caption: format!("Each run tested once, with the runs before it. {told}"),
        }
    }))
}

/// One dot a word: how late each is said to start, along the recording, with the fitted line.
fn drift(store: &Store, names: &Names<'_>, sides: &[Side<'_>]) -> Result<Option<ChartFigure>, Failure> {
    let Some(measure) = find("drift") else { return Ok(None) };
    let timed: Vec<Side<'_>> =
        sides.iter().copied().filter(|side| side.variant.measures.get(measure.id).is_some()).collect();
    let (mut series, mut guides) = (Vec::new(), Vec::new());
    for side in timed.iter().take(MOST_DOTTED) {
        let (column, _) = side.run.fact(store, side.variant, measure.fact)?;
        let rows = column.all_rows().chunks_exact(2);
        let every = rows.len().div_ceil(MOST_POINTS).max(1);
        let points: Vec<(f64, f64)> = rows.step_by(every).map(|row| (row[0], row[1])).collect();
        let slope = side.variant.measures.get(measure.id).map_or(0.0, |estimate| estimate.value);
        let level: Vec<f64> = points.iter().map(|(at_s, ms)| ms - slope * at_s / 60.0).collect();
        let offset = fonex_core::stats::median(&level).unwrap_or_default();
        let last = points.iter().map(|point| point.0).fold(0.0, f64::max);
        let at = |s: f64| (s, offset + slope * s / 60.0);
        let words = format!("{}: {} ms a minute", names.of(*side), output::signed(slope, 0));
        guides.push(Guide { from: at(0.0), to: at(last), words });
        series.push(PlaneSeries { name: names.of(*side), points, form: PlaneForm::Dots, ..PlaneSeries::default() });
    }
    if series.is_empty() {
        return Ok(None);
    }
    let chart = PlaneChart {
        equal_units: false,
        title: "Where words are, against their labels".into(),
        x: PlaneAxis { label: "seconds into the recording".into(), from_zero: true, ..PlaneAxis::default() },
        y: PlaneAxis {
            label: "start, heard minus labelled, milliseconds".into(),
            from_zero: true,
            ..PlaneAxis::default()
        },
        series,
        guides,
        note: "one dot per word; dashed: fitted line. A slope is drift, a height is an offset".into(),
    };
    let caption = format!("Word starts along the recordings.{}", left_out(names, &timed, MOST_DOTTED));
    Ok(Some(ChartFigure { narrow: None, svg: plane_svg(&chart), caption }))
}

fn latencies(
    store: &Store,
    names: &Names<'_>,
    group: &[Side<'_>],
    what: &str,
) -> Result<Option<ChartFigure>, Failure> {
    let Some(measure) = find("latency_p50") else { return Ok(None) };
    let mut series = Vec::new();
    for side in group.iter().take(MOST_SERIES) {
        let took_ms = side.run.fact(store, side.variant, measure.fact)?.0.all_rows().to_vec();
        series.push(LatencySeries { name: names.of(*side), took_ms });
    }
    if series.iter().all(|one| one.took_ms.is_empty()) {
        return Ok(None);
    }
    let svg = latency_svg(&format!("Time to the answer of each {what}"), &series);
    let caption = "Latency of answered trials; lines further left are faster.";
    Ok(Some(ChartFigure { narrow: None, svg, caption: format!("{caption}{}", left_out(names, group, MOST_SERIES)) }))
}

/// Recognisers of a page, those that hear voices left out.
pub fn recognisers<'s>(sides: &[Side<'s>]) -> Vec<Side<'s>> {
    let [recognisers, ..] = by_kind(sides);
    recognisers
}
