//! `fonex trend`: measures over runs, charted, with every change that is beyond chance and since when.

mod drawn;
mod limits;

use clap::Args;
use std::collections::BTreeSet;
use std::path::PathBuf;

use fonex_analysis::{ChangeFinding, Followed, RunView, Series, Wanted, follow, locate};
use fonex_core::measures::{Matters, Measure, Unit, find};
use fonex_core::verdict::{ChangeShape, DrawnUnit, Verdict};
use fonex_formats::{Place, Problem};
use fonex_report::figures::difference;
use fonex_report::terminal_trend;
use fonex_run::unknown;
use fonex_store::{RunState, Store};

pub use self::drawn::At;
pub(super) use self::drawn::charts;
use self::drawn::write;
pub(super) use self::limits::Limits;
use super::chosen::{MeasureArg, ProfileArg, UnitArg, parse_slice};
use super::selected::{Selecting, WhereArg};
use super::{load_run, mattering, store_to_read};
use crate::brief::{Brief, each_once};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex trend --plan weekly
  fonex trend --plan weekly --measure wer,latency_p95
  fonex trend --plan weekly --slice wind=strong -o trend.png
  fonex trend --plan weekly --measure wer,latency_p50 --by wind -o trend.html")]
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
    pub only: WhereArg,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub unit: UnitArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    /// Include unfinished runs
    #[arg(long)]
    pub unfinished: bool,
    /// Also one series for each value of this tag, speaker, lang, length or snr, or of two such as channel*wind; may be repeated
    #[arg(long, value_name = "TAG", conflicts_with = "slice")]
    pub by: Vec<String>,
    /// What runs are called on the axis
    #[arg(long, value_enum, default_value = "label", value_name = "NAME")]
    pub at: At,
    /// Draw every series and list every run
    #[arg(long)]
    pub all: bool,
    /// Write it to this file: a chart as .svg or .png, several small ones side by side; or a page as .html
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// Values by which clips can be parted in one trend.
const MOST_VALUES: usize = 24;

pub fn trend_of_runs(options: &TrendOptions) -> Result<Code, Failure> {
    let mut store = store_to_read(&options.bench)?;
    let mut measures = options.measures.chosen()?;
    if measures.is_empty() {
        measures.extend(find("wer"));
    }
    let profile = options.profile.chosen()?;
    let wanted = Wanted { measures: measures.clone(), ..Wanted::default() };
    let selecting = Selecting { r#where: options.only.r#where.as_deref(), by: &options.by, bench: &options.bench };
    let mut runs = Vec::new();
    let mut left_out = 0;
    for run in store.runs()? {
        let of_plan = options.plan.as_ref().is_none_or(|plan| run.plan == *plan);
        if of_plan && run.state == RunState::Unfinished && !options.unfinished {
            left_out += 1;
        } else if of_plan {
            let wanted = selecting.wanted(&store, &run, wanted.clone())?;
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
    let slices = slices(&runs, slice, &options.by)?;
    let mattering = mattering(&options.bench)?;
    let mut all = Vec::new();
    for measure in &measures {
        let matters = measure.matters(&mattering);
        for slice in &slices {
            let slice = slice.as_ref().map(|(by, value)| (by.as_str(), value.as_str()));
            all.extend(series(&store, &runs, (measure, matters), options, slice)?);
        }
    }
    all.iter_mut().try_for_each(|series| locate(&store, &runs, series))?;
    let limits = Limits::read(&options.bench);
    if all.is_empty() {
        let problem = Problem::new("no run has this series", Place::default());
        let remedy = "check --plan, --variant, --measure and --slice against fonex runs";
        return Err(problem.remedy(remedy).into());
    }
    match options.format.format {
        Format::Json => output::print_json(&all)?,
        form @ (Format::Table | Format::Markdown) => {
            let mut answer = brief(&all, &limits, options);
            if options.all {
                answer.drawing.clear();
                answer.tables.clear();
                answer.more.clear();
            }
            answer.print(form)?;
            if options.all && form == Format::Table {
                output::print_lines(&format!("\n{}", page(&all, &limits, options)))?;
            }
        }
        form => output::print_table(&points_table(&all), form)?,
    }
    if let Some(path) = &options.output {
        write(
            path,
            &all,
            &charts(&all, &limits, options.plan.as_deref(), options.at),
            (&store, &runs, &options.bench.bench),
        )?;
    }
    Ok(Code::Done)
}

/// A slice as what is shared and its value; none for all clips.
type ChosenSlice = Option<(String, String)>;

/// All clips or the slice named, and every value of what clips are to be parted by.
fn slices(runs: &[RunView], slice: Option<(&str, &str)>, by: &[String]) -> Result<Vec<ChosenSlice>, Failure> {
    let mut slices = vec![slice.map(|(by, value)| (by.to_owned(), value.to_owned()))];
    for by in by {
        let keys = || runs.iter().flat_map(|run| &run.sheet().keys);
        let mut values: Vec<&String> = keys().filter(|key| key.by == *by).flat_map(|key| &key.values).collect();
        if values.is_empty() {
            let place = Place::default().field("--by");
            let known: BTreeSet<&String> = keys().map(|key| &key.by).collect();
            return Err(unknown(format!("no clip has the tag \"{by}\""), by, known, place).into());
        }
        values.sort();
        values.dedup();
        if values.len() > MOST_VALUES {
            let problem = Problem::new(format!("{by} has {} values", values.len()), Place::default().field("--by"));
            return Err(problem
                .expected(format!("at most {MOST_VALUES}; --slice {by}=VALUE follows one of them"))
                .into());
        }
        slices.extend(values.into_iter().map(|value| Some((by.clone(), value.clone()))));
    }
    Ok(slices)
}

/// A measure of every variant that has a figure, or of the one named.
fn series(
    store: &Store,
    runs: &[RunView],
    (measure, matters): (&'static Measure, Matters),
    options: &TrendOptions,
    slice: Option<(&str, &str)>,
) -> Result<Vec<Series>, Failure> {
    let mut all = Vec::new();
    for variant in variants(runs, measure, options.variant.as_deref()) {
        let followed = Followed { variant, measure, slice, unit: options.unit.chosen(), matters };
        let series = follow(store, runs, followed)?;
        if series.points.iter().any(|point| point.value.is_some()) {
            all.push(series);
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

/// Runs in the table of the answer.
const MOST_RUNS: usize = 8;
/// Series that each have a sentence.
const MOST_SERIES: usize = 4;

/// The answer: since when, or that nothing changed. One series is drawn, several are a row each.
fn brief(all: &[Series], limits: &Limits, options: &TrendOptions) -> Brief {
    let changed: Vec<&Series> = all.iter().filter(|series| !series.changes.is_empty()).collect();
    let mut brief = Brief::default();
    let mut details = Vec::new();
    match all {
        [only] => {
            let mut lines = in_words(only).into_iter();
            let name = find(&only.measure).map_or(only.measure.as_str(), |measure| measure.name);
            let slice = only.slice.as_ref().map_or_else(String::new, |slice| format!(" on {slice}"));
            let runs = only.points.iter().filter(|point| point.value.is_some()).count() as u64;
            brief.heading = if runs < 2 {
                format!("{}: {name}{slice} of one run, nothing to follow yet", only.variant)
            } else if only.changes.is_empty() {
                format!("{}: no change in {name}{slice} over {}", only.variant, plural(runs, "run"))
            } else {
                let change = lines.next().unwrap_or_default();
                format!("{}: {name}{slice} {change}", only.variant)
            };
            details.extend(lines.map(|line| line.trim_start().to_owned()));
            for chart in charts(all, limits, options.plan.as_deref(), options.at) {
                for line in &chart.lines {
                    brief.drawing += &terminal_trend(line, chart.unit, output::width().min(100) as u16);
                }
            }
            let skipped = only.points.len().saturating_sub(MOST_RUNS);
            let last = Series { points: only.points[skipped..].to_vec(), ..only.clone() };
            brief.tables = vec![points_table(&[last]).without(&["started"])];
            if skipped > 0 {
                brief.notes.push(format!("{} before these: --all", plural(skipped as u64, "run")));
            }
        }
        several => {
            brief.heading = match changed.len() {
                0 => format!("No change in {} series", several.len()),
                some => format!("{some} of {} series changed", several.len()),
            };
            for series in changed.iter().take(MOST_SERIES) {
                let name = find(&series.measure).map_or(series.measure.as_str(), |measure| measure.name);
                let slice = series.slice.as_ref().map_or_else(String::new, |slice| format!(" on {slice}"));
                let first = in_words(series).into_iter().next().unwrap_or_default();
                brief.answer.push(format!("{}: {name}{slice} {first}.", series.variant));
            }
            if changed.len() > MOST_SERIES {
                brief.answer.push(format!("{} more changed.", changed.len() - MOST_SERIES));
            }
            brief.tables = vec![series_table(several)];
            for line in several.iter().flat_map(|series| series.withheld.iter().chain(&series.cautions)) {
                if !details.contains(line) {
                    details.push(line.clone());
                }
            }
        }
    }
    let caution = |line: String| line.strip_prefix("caution: ").map_or(line.clone(), str::to_owned);
    brief.stands_out = each_once(details.into_iter().map(caution));
    if let Some(only) = &options.only.r#where {
        brief.heading += &format!(", where {only}");
    }
    brief
        .notes
        .push("Intervals are 95 %. At most 5 % of unchanged series show a change, however long they are.".to_owned());
    brief.more = more(&changed, options);
    brief
}

fn more(changed: &[&Series], options: &TrendOptions) -> Vec<String> {
    let mut more = Vec::new();
    let change = changed.first().and_then(|series| Some((*series, series.changes.last()?)));
    if let Some((series, change)) = change {
        let before = series.points.iter().rev().find(|point| point.run < change.from && point.value.is_some());
        let name = |run: i64| {
            let point = series.points.iter().find(|point| point.run == run);
            point.and_then(|point| point.label.clone()).unwrap_or_else(|| run.to_string())
        };
        if let Some(before) = before {
            more.push(format!("fonex compare {} {} --flips", name(before.run), name(change.told_by)));
        }
    }
    let plan = options.plan.as_ref().map_or_else(String::new, |plan| format!(" --plan {plan}"));
    more.push(format!("fonex trend{plan} --all"));
    more.push(format!("fonex trend{plan} -o trend.svg"));
    more
}

/// A row a series: its first and last figure, and what changed.
fn series_table(all: &[Series]) -> Table {
    let columns =
        [("variant", 0), ("measure", 1), ("clips of", 1), ("runs", 2), ("first", 1), ("last", 0), ("change", 0)];
    let mut table = Table::new(columns);
    for series in all {
        let unit = unit_of(series);
        let points: Vec<_> = series.points.iter().filter(|point| point.value.is_some()).collect();
        let figure = |value: Option<f64>| Cell::figure(unit, value);
        let last = points.last().map_or(Cell::Empty, |point| {
            point.value.map_or(Cell::Empty, |value| Cell::Estimate(unit, value, point.interval))
        });
        let measure = find(&series.measure);
        table.row([
            Cell::text(series.variant.as_str()),
            measure.map_or(Cell::Empty, |measure| Cell::Named(measure.id, measure.name)),
            series.slice.as_deref().map_or(Cell::Empty, Cell::text),
            Cell::Count(points.len() as u64),
            figure(points.first().and_then(|point| point.value)),
            last,
            series.changes.last().map_or(Cell::Empty, |change| super::compare::verdict(change.verdict)),
        ]);
    }
    table.without_empty_columns()
}

fn page(all: &[Series], limits: &Limits, options: &TrendOptions) -> String {
    let mut text = String::new();
    for chart in charts(all, limits, options.plan.as_deref(), options.at) {
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
    text
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
        let verdict = match change.verdict {
            Verdict::Alike => "changed by less than matters",
            verdict => verdict.as_str(),
        };
        let for_whom = match series.unit {
            DrawnUnit::Clip => series.speakers.map(|count| format!(", for {}", output::these_speakers(count))),
            DrawnUnit::Speaker => Some(", for speakers like these".to_owned()),
            DrawnUnit::Recording => Some(", for recordings like these".to_owned()),
        }
        .unwrap_or_default();
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
        for with in &change.with {
            let (_, kind) = with.kind.names();
            lines.push(format!("  from that run on another {kind}: {}", with.what));
        }
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
