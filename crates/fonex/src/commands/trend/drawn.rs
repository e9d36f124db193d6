//! Trends as charts, and as a page.

use std::path::Path;

use clap::ValueEnum;
use fonex_analysis::{MarkKind, Material, Point, RunView, Series, Side};
use fonex_core::Task;
use fonex_core::measures::find;
use fonex_core::verdict::Verdict;
use fonex_formats::{Place, Problem};
use fonex_report::charts::{ChangeMark, TrendChart, TrendLine, TrendMark, trend_svg, trends_svg};
use fonex_report::{ChartFigure, ReportData, Statement, render_report};
use fonex_run::now;
use fonex_store::Store;

use super::{Limits, in_words, points_table, run_name, shown_at, title};
use crate::brief::each_once;
use crate::commands::report::{self, Names};
use crate::failure::Failure;
use crate::output::{plural, write_chart, write_whole};

/// What runs are called on an axis.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum At {
    /// Their labels, or numbers where they have none
    Label,
    /// The day they were started
    Date,
    /// The commit they are of
    Commit,
}

impl At {
    fn name_of(self, point: &Point) -> String {
        match self {
            Self::Label => run_name(point.label.as_ref(), point.run),
            Self::Date => point.started_at.get(..10).unwrap_or_default().to_owned(),
            Self::Commit => {
                let short = |commit: &String| commit.chars().take(8).collect();
                point.commit.as_ref().map_or_else(|| run_name(point.label.as_ref(), point.run), short)
            }
        }
    }
}

/// Writes what is drawn: a picture, or a page.
///
/// # Errors
/// When the file is of another kind, or cannot be written.
pub fn write(
    path: &Path,
    all: &[Series],
    charts: &[TrendChart],
    (store, runs, bench): Runs<'_>,
) -> Result<(), Failure> {
    match path.extension().and_then(|ending| ending.to_str()) {
        Some("html") => return write_page(path, all, charts, (store, runs, bench)),
        Some("svg" | "png") => {}
        _ => {
            let problem = Problem::new("the file extension decides the format of a trend", Place::file(path));
            return Err(problem.expected(".svg, .png or .html").into());
        }
    }
    let svg = match charts {
        [chart] => trend_svg(chart),
        charts => trends_svg("Over runs", charts),
    };
    write_chart(path, &svg)
}

/// The runs of a trend with their store and their bench file.
pub type Runs<'r> = (&'r Store, &'r [RunView], &'r Path);

/// A recogniser as it was before a change, and as it was when the change was found.
type Pair<'r> = [Side<'r>; 2];

/// The pairs of the last change of each series, each once.
fn pairs_of_changes<'r>(all: &[Series], runs: &'r [RunView]) -> Vec<Pair<'r>> {
    let side = |number: i64, name: &str| -> Option<Side<'r>> {
        let run = runs.iter().find(|view| view.run.id == number)?;
        let variant =
            run.variants.iter().find(|view| view.variant.name == name && view.variant.task == Task::Hear)?;
        Some(Side { run, variant, material: Material::Whole })
    };
    let mut pairs: Vec<Pair<'r>> = Vec::new();
    for series in all {
        let Some(change) = series.changes.last() else { continue };
        let before = series.points.iter().rev().find(|point| point.run < change.from && point.value.is_some());
        let sides = before
            .and_then(|point| Some([side(point.run, &series.variant)?, side(change.told_by, &series.variant)?]));
        let same = |a: &Pair<'_>, b: &Pair<'_>| a[0].name() == b[0].name() && a[1].name() == b[1].name();
        pairs.extend(sides.filter(|pair| pairs.iter().all(|known| !same(known, pair))));
    }
    pairs
}

fn write_page(
    path: &Path,
    all: &[Series],
    charts: &[TrendChart],
    (store, runs, bench): Runs<'_>,
) -> Result<(), Failure> {
    let pairs = pairs_of_changes(all, runs);
    let mut sides: Vec<Side<'_>> = Vec::new();
    for side in pairs.iter().flatten() {
        if sides.iter().all(|known| known.name() != side.name()) {
            sides.push(*side);
        }
    }
    let folder = bench.parent().unwrap_or(Path::new(""));
    let clips = report::clips_of_page(store, runs, &sides, (folder, path))?;
    let told = |series: &Series| {
        let lines = in_words(series).into_iter().filter(|line| !line.starts_with("caution: "));
        let lines: Vec<String> = lines.map(|line| line.trim().to_owned()).collect();
        (!lines.is_empty()).then(|| format!("{}, {}: {}.", series.variant, title(series), lines.join("; ")))
    };
    let changed: Vec<String> = all.iter().filter(|series| !series.changes.is_empty()).filter_map(told).collect();
    let others = all.iter().filter(|series| series.changes.is_empty()).filter_map(told);
    let verdict = if changed.is_empty() {
        vec![format!("None of {} changed beyond chance.", plural(all.len() as u64, "series"))]
    } else {
        changed
    };
    let cautions = each_once(all.iter().flat_map(|series| series.cautions.iter().cloned()));
    let figure =
        |chart: &TrendChart| ChartFigure { narrow: None, svg: trend_svg(chart), caption: chart.title.clone() };
    let picture = if charts.len() > 1 {
        let svg = trends_svg("Over runs", charts);
        Some(ChartFigure { narrow: None, svg, caption: "Those of one measure are on one scale.".to_owned() })
    } else {
        None
    };
    let data = ReportData {
        title: "Speech benchmark: over runs".to_owned(),
        subtitle: format!("{}, written {}", plural(runs.len() as u64, "run"), now()),
        verdict,
        picture,
        head: vec![super::series_table(all).html()],
        cautions,
        statements: clips_of_changes(&pairs, &Names::new(runs)).into_iter().chain(others.map(|text| Statement { text, clips: None })).collect(),
        clips: clips.cards,
        book: clips.book,
        charts: charts.iter().map(figure).collect(),
        tables: vec![points_table(all).titled("Run by run").html()],
        method: vec![
            "Each run is tested once, against the runs before it; a change found is kept, and at most 5 % of unchanged series \
             show one."
                .to_owned(),
            "Bands are 95 % intervals over clips. Runs are not compared across another corpus, text profile or, for what \
             depends on it, machine or version of Fonex."
                .to_owned(),
        ],
        facts: report::facts(runs),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        ..ReportData::default()
    };
    let page = render_report(&data).map_err(|error| Problem::new(error.to_string(), Place::file(path)))?;
    write_whole(path, |out| Ok(out.write_all(page.as_bytes())?))
}

/// A link to the clips of each change.
fn clips_of_changes(pairs: &[Pair<'_>], names: &Names<'_>) -> Vec<Statement> {
    let link = |pair: &Pair<'_>| {
        let [first, second] = pair.map(|side| names.of(side));
        let shown = format!("first={}&second={}", report::escaped(&first), report::escaped(&second));
        Statement {
            text: format!("What {second} hears worse than {first}:"),
            clips: Some(format!("clips&result=lost&order=difference&{shown}")),
        }
    };
    pairs.iter().map(link).collect()
}

/// One chart a measure, every variant over the same runs.
pub fn charts(all: &[Series], limits: &Limits, plan: Option<&str>, at: At) -> Vec<TrendChart> {
    let of_measure = all.chunk_by(|a, b| (&a.measure, &a.slice) == (&b.measure, &b.slice));
    of_measure.filter_map(|all| chart(all, limits, plan, at)).collect()
}

fn chart(all: &[Series], limits: &Limits, plan: Option<&str>, at: At) -> Option<TrendChart> {
    let measure = find(&all.first()?.measure)?;
    let mut runs: Vec<(i64, String)> =
        all.iter().flat_map(|series| &series.points).map(|point| (point.run, at.name_of(point))).collect();
    runs.sort();
    runs.dedup();
    let mut lines: Vec<TrendLine> = all
        .iter()
        .map(|series| TrendLine {
            name: series.variant.clone(),
            marks: runs.iter().map(|(run, label)| mark(series, *run, label)).collect(),
        })
        .collect();
    let marks = || all.iter().flat_map(|series| &series.marks);
    let known = |kind: &MarkKind, run: i64| marks().any(|mark| mark.kind == *kind && mark.before == run);
    for (at, (run, _)) in runs.iter().enumerate() {
        lines[0].marks[at].letters =
            MarkKind::ALL.iter().filter(|kind| known(kind, *run)).map(|kind| kind.names().0).collect();
    }
    let kinds = MarkKind::ALL.iter().filter(|kind| marks().any(|mark| mark.kind == **kind));
    let letters: Vec<String> = kinds.map(|kind| format!("{} another {}", kind.names().0, kind.names().1)).collect();
    let letters = if letters.is_empty() { String::new() } else { format!("; {}", letters.join(", ")) };
    let broken = all.iter().any(|series| !series.breaks.is_empty());
    let breaks = if broken { "; dotted: not comparable across" } else { "" };
    // A limit of one variant says nothing of another.
    let limits = if let [series] = all { limits.of(series, plan) } else { Vec::new() };
    let names: Vec<&str> = limits.iter().map(|limit| limit.name.as_str()).collect();
    let dashed = if names.is_empty() { String::new() } else { format!("; dashed: {}", names.join(", ")) };
    Some(TrendChart {
        title: title(&all[0]),
        measure: all[0].measure.clone(),
        unit: measure.unit,
        note: format!("band: 95 % interval; ▲ worse, ▼ better from here on{breaks}{dashed}{letters}"),
        lines,
        limits,
    })
}

fn mark(series: &Series, run: i64, label: &str) -> TrendMark {
    let point = series.points.iter().find(|point| point.run == run);
    TrendMark {
        label: label.to_owned(),
        value: point.and_then(|point| point.value),
        interval: point.and_then(|point| point.interval).map(|i| (i.low, i.high)),
        change: series.changes.iter().find(|change| shown_at(change) == run).map(|change| match change.verdict {
            Verdict::Worse => ChangeMark::Worse,
            Verdict::Better => ChangeMark::Better,
            Verdict::Differs | Verdict::Alike | Verdict::CannotTell => ChangeMark::Other,
        }),
        letters: String::new(),
        breaks: series.breaks.iter().any(|other| other.before == run),
    }
}
