//! `fonex trend`: measures over runs, charted, with every change that is beyond chance and since when.

mod limits;

use clap::Args;
use std::path::PathBuf;

use fonex_analysis::{ChangeFinding, Followed, RunView, Series, Wanted, follow, locate};
use fonex_core::measures::{Measure, Unit, find};
use fonex_core::verdict::{ChangeShape, DrawnUnit, Verdict};
use fonex_formats::{Place, Problem};
use fonex_report::charts::{ChangeMark, TrendChart, TrendLine, TrendMark, trend_svg};
use fonex_report::figures::difference;
use fonex_report::terminal_trend;
use fonex_store::{RunState, Store};

pub(super) use self::limits::Limits;
use super::chosen::{MeasureArg, ProfileArg, UnitArg, parse_slice};
use super::{load_run, store_to_read};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural, write_chart};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex trend --plan weekly
  fonex trend --plan weekly --measure wer,latency_p95
  fonex trend --plan weekly --slice wind=strong -o trend.png")]
pub struct TrendOptions {
    /// Only runs of this plan
    #[arg(long)]
    pub plan: Option<String>,
    /// Only this variant
    #[arg(long)]
    pub variant: Option<String>,
    /// Only clips of this slice, such as channel=radio
    #[arg(long, value_name = "TAG=VALUE")]
    pub slice: Option<String>,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub unit: UnitArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    /// Include unfinished runs
    #[arg(long)]
    pub unfinished: bool,
    /// Write a chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn trend_of_runs(options: &TrendOptions) -> Result<Code, Failure> {
    let mut store = store_to_read(&options.bench)?;
    let mut measures = options.measures.chosen()?;
    if measures.is_empty() {
        measures.extend(find("wer"));
    }
    let profile = options.profile.chosen()?;
    let wanted = Wanted { measures: measures.clone(), ..Wanted::default() };
    let mut runs = Vec::new();
    let mut left_out = 0;
    for run in store.runs()? {
        let of_plan = options.plan.as_ref().is_none_or(|plan| run.plan == *plan);
        if of_plan && run.state == RunState::Unfinished && !options.unfinished {
            left_out += 1;
        } else if of_plan {
            runs.push(load_run(&mut store, run, profile.as_ref(), &wanted)?);
        }
    }
    if left_out > 0 {
        let runs = plural(left_out, "unfinished run");
        output::caution(&format!("{runs} left out; --unfinished includes them"));
    }
    let slice = match &options.slice {
        Some(typed) => {
            let keys = runs.iter().flat_map(|run| &run.sheet().keys);
            let keys: Vec<(String, Vec<String>)> = keys.map(|key| (key.by.clone(), key.values.clone())).collect();
            Some(parse_slice(typed, &keys)?)
        }
        None => None,
    };
    let mut all = series(&store, &runs, &measures, options, slice)?;
    all.iter_mut().try_for_each(|series| locate(&store, &runs, series))?;
    let limits = Limits::read(&options.bench);
    if all.is_empty() {
        let problem = Problem::new("no run has this series", Place::default());
        let remedy = "check --plan, --variant, --measure and --slice against fonex runs";
        return Err(problem.remedy(remedy).into());
    }
    match options.format.format {
        Format::Json => output::print_json(&all)?,
        Format::Table => print_page(&all, &limits, options.plan.as_deref())?,
        form => output::print_table(&points_table(&all), form)?,
    }
    if let Some(path) = &options.output {
        let charts = charts(&all, &limits, options.plan.as_deref());
        if charts.len() > 1 {
            output::caution("a picture holds one measure: only the first is drawn");
        }
        write_chart(path, &trend_svg(&charts[0]))?;
    }
    Ok(Code::Done)
}

/// Every measure of every variant that has a figure, or of the one named.
fn series(
    store: &Store,
    runs: &[RunView],
    measures: &[&'static Measure],
    options: &TrendOptions,
    slice: Option<(&str, &str)>,
) -> Result<Vec<Series>, Failure> {
    let mut all = Vec::new();
    for measure in measures {
        for variant in variants(runs, measure, options.variant.as_deref()) {
            let followed = Followed { variant, measure, slice, unit: options.unit.chosen() };
            let series = follow(store, runs, followed)?;
            if series.points.iter().any(|point| point.value.is_some()) {
                all.push(series);
            }
        }
    }
    Ok(all)
}

/// The variants of the runs that a measure applies to, or the one named.
pub(super) fn variants<'r>(runs: &'r [RunView], measure: &Measure, only: Option<&str>) -> Vec<&'r str> {
    let mut names: Vec<&str> = Vec::new();
    for variant in runs.iter().flat_map(|run| &run.variants).map(|view| &view.variant) {
        let name = variant.name.as_str();
        let asked = only.is_none_or(|only| only == name) && measure.tasks.contains(&variant.task);
        if asked && !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

fn run_name(label: Option<&String>, run: i64) -> String {
    label.cloned().unwrap_or_else(|| format!("run {run}"))
}

/// One chart a measure, every variant over the same runs.
pub(super) fn charts(all: &[Series], limits: &Limits, plan: Option<&str>) -> Vec<TrendChart> {
    let of_measure = all.chunk_by(|a, b| a.measure == b.measure);
    of_measure.filter_map(|all| chart(all, limits, plan)).collect()
}

fn chart(all: &[Series], limits: &Limits, plan: Option<&str>) -> Option<TrendChart> {
    let measure = find(&all.first()?.measure)?;
    let mut runs: Vec<(i64, String)> = all
        .iter()
        .flat_map(|series| &series.points)
        .map(|point| (point.run, run_name(point.label.as_ref(), point.run)))
        .collect();
    runs.sort();
    runs.dedup();
    let lines = all.iter().map(|series| TrendLine {
        name: series.variant.clone(),
        marks: runs.iter().map(|(run, label)| mark(series, *run, label)).collect(),
    });
    let broken = all.iter().any(|series| !series.breaks.is_empty());
    let breaks = if broken { "; dotted: not comparable across" } else { "" };
    // A limit of one variant says nothing of another.
    let limits = if let [series] = all { limits.of(series, plan) } else { Vec::new() };
    let names: Vec<&str> = limits.iter().map(|limit| limit.name.as_str()).collect();
    let dashed = if names.is_empty() { String::new() } else { format!("; dashed: limit {}", names.join(", ")) };
    Some(TrendChart {
        title: title(&all[0]),
        unit: measure.unit,
        note: format!("band: 95 % interval over clips; ▲ worse, ▼ better from here on, significant{breaks}{dashed}"),
        lines: lines.collect(),
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
            Verdict::Differs | Verdict::CannotTell => ChangeMark::Other,
        }),
        breaks: series.breaks.iter().any(|other| other.before == run),
    }
}

/// A step is marked where it began, a creep where it was found.
fn shown_at(change: &ChangeFinding) -> i64 {
    match change.shape {
        ChangeShape::Step => change.from,
        ChangeShape::Creep => change.told_by,
    }
}

fn title(series: &Series) -> String {
    let name = find(&series.measure).map_or(series.measure.as_str(), |measure| measure.name);
    let slice = series.slice.as_ref().map_or_else(String::new, |slice| format!(", {slice}"));
    format!("{name} over runs{slice}")
}

fn unit_of(series: &Series) -> Unit {
    find(&series.measure).map_or(Unit::Ratio, |measure| measure.unit)
}

fn print_page(all: &[Series], limits: &Limits, plan: Option<&str>) -> Result<(), Failure> {
    let mut text = String::new();
    for chart in charts(all, limits, plan) {
        text += &format!("{}\n", chart.title);
        let own = all.iter().filter(|series| title(series) == chart.title);
        for (series, line) in own.zip(&chart.lines) {
            let drawn = terminal_trend(line, chart.unit, output::width().min(100) as u16);
            text += &format!("\n{}\n{drawn}\n\n", series.variant);
            text += &output::text(&points_table(std::slice::from_ref(series)));
            for line in in_words(series) {
                text += &format!("{line}\n");
            }
        }
        text.push('\n');
    }
    text += "Dots: 95 % interval over clips. Each run is tested once, against the runs before it; a change found is kept,\n";
    text += "and at most 5 % of unchanged series show one.\n";
    output::print(&text)
}

/// What a series comes to, in sentences.
pub(super) fn in_words(series: &Series) -> Vec<String> {
    let unit = unit_of(series);
    let name = |run: i64| {
        let point = series.points.iter().find(|point| point.run == run);
        point.map_or_else(|| format!("run {run}"), |point| run_name(point.label.as_ref(), run))
    };
    let mut lines = Vec::new();
    for change in &series.changes {
        let by = difference(unit, change.difference);
        let interval = change
            .interval
            .map_or_else(String::new, |i| format!(" ({} to {})", difference(unit, i.low), difference(unit, i.high)));
        let verdict = change.verdict.as_str();
        let for_whom = match series.unit {
            DrawnUnit::Clip => "",
            DrawnUnit::Speaker => ", for speakers like these",
            DrawnUnit::Recording => ", for recordings like these",
        };
        lines.push(match change.shape {
            ChangeShape::Step => format!(
                "{verdict} since {}, by {by}{interval}{for_whom}; found at {}",
                name(change.from),
                name(change.told_by)
            ),
            ChangeShape::Creep => {
                format!("{verdict} gradually, by {by}{interval}{for_whom}; found at {}", name(change.told_by))
            }
        });
        if !change.slices.is_empty() {
            lines.push(format!("  seen on {}", change.slices.join(", ")));
        }
        if !change.clips_harmed.is_empty() {
            lines.push(format!("  most harmed: {}", change.clips_harmed.join(", ")));
        }
    }
    lines.extend(series.breaks.iter().map(|other| format!("from {} on {}", name(other.before), other.what)));
    lines.extend(series.withheld.clone());
    lines.extend(series.cautions.iter().map(|caution| format!("caution: {caution}")));
    lines
}

fn points_table(all: &[Series]) -> Table {
    let several = all.len() > 1;
    let named = [("variant", 0), ("measure", 0)];
    let columns =
        [("run", 0), ("label", 0), ("engine version", 3), ("started", 4), ("clips", 2), ("value", 0), ("change", 0)];
    let mut table = Table::new(named.into_iter().filter(|_| several).chain(columns));
    for series in all {
        let unit = unit_of(series);
        for point in &series.points {
            let change = series.changes.iter().find(|change| shown_at(change) == point.run);
            let value = point.value.map_or(Cell::Empty, |value| Cell::Estimate(unit, value, point.interval));
            let cells = [
                Cell::Count(point.run as u64),
                Cell::text(point.label.clone().unwrap_or_default()),
                Cell::text(point.engine_version.clone().unwrap_or_default()),
                Cell::text(point.started_at.clone()),
                Cell::Count(point.clips),
                value,
                change.map_or(Cell::text(""), |change| super::compare::verdict(change.verdict)),
            ];
            let measure = find(&series.measure);
            let measure = measure.map_or(Cell::Empty, |measure| Cell::Named(measure.id, measure.name));
            let named = [Cell::text(series.variant.as_str()), measure];
            table.row(named.into_iter().filter(|_| several).chain(cells));
        }
    }
    table
}
