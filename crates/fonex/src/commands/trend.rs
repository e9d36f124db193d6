//! `fonex trend`: the word error rate over runs, charted, with every step to the worse that is beyond chance.

use fonex_core::Clip;
use fonex_core::findings::{Finding, Verdict};
use fonex_formats::{Place, Problem};
use fonex_report::charts::{TrendLine, TrendMark, trend_svg};
use fonex_report::terminal_trend;

use super::parse_slice;
use crate::analysis::{self, RunView, trend, value_of};
use crate::bench::existing_store;
use crate::cli::{Format, Trend};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, percent, percent_points, write_chart};

pub fn trend_of_runs(options: &Trend) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
    let slice = options.slice.as_deref().map(parse_slice).transpose()?;
    let mut runs = Vec::new();
    for run in store.runs()? {
        if options.plan.as_ref().is_none_or(|plan| run.plan == *plan) {
            runs.push(RunView::load(&store, run)?);
        }
    }
    let within = |clip: &Clip| slice.is_none_or(|(by, value)| value_of(clip, by) == Some(value));
    let trends: Vec<analysis::Trend> = variants(&runs, options.variant.as_deref())
        .iter()
        .map(|variant| trend(variant, &runs, options.slice.as_deref(), &within, options.seed))
        .filter(|trend| trend.points.iter().any(|point| point.clips > 0))
        .collect();
    if trends.is_empty() {
        let problem = Problem::new("no run has such a trend", Place::default());
        return Err(problem.remedy("check --plan, --variant and --slice against what fonex runs lists").into());
    }
    match options.format.format {
        Format::Json => output::print_json(&trends)?,
        Format::Table => print_page(&trends)?,
        form => output::print_table(&points_table(&trends), form)?,
    }
    if let Some(path) = &options.output {
        write_chart(path, &trend_svg(&title(&trends), &lines(&trends)))?;
    }
    Ok(Code::Done)
}

/// The recogniser variants of the runs, or the one named.
fn variants(runs: &[RunView], only: Option<&str>) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for variant in runs.iter().flat_map(|run| &run.variants) {
        let name = &variant.variant.name;
        if variant.score.is_some() && !names.contains(name) && only.is_none_or(|only| only == name) {
            names.push(name.clone());
        }
    }
    names
}

fn run_name(point: &analysis::TrendPoint) -> String {
    point.label.clone().unwrap_or_else(|| format!("run {}", point.run))
}

/// The series of a chart: every variant over the same runs.
pub(super) fn lines(trends: &[analysis::Trend]) -> Vec<TrendLine> {
    let mut runs: Vec<(i64, String)> =
        trends.iter().flat_map(|trend| &trend.points).map(|point| (point.run, run_name(point))).collect();
    runs.sort();
    runs.dedup();
    trends
        .iter()
        .map(|trend| TrendLine {
            name: trend.variant.clone(),
            marks: runs
                .iter()
                .map(|(run, label)| {
                    let point = trend.points.iter().find(|point| point.run == *run);
                    TrendMark {
                        label: label.clone(),
                        value: point.and_then(|point| point.wer),
                        interval: point.and_then(|point| point.interval).map(|i| (i.low, i.high)),
                        worse: point.and_then(|point| match point.change.as_ref()?.verdict {
                            Verdict::Worse => Some(true),
                            Verdict::Better => Some(false),
                            Verdict::CannotTell => None,
                        }),
                    }
                })
                .collect(),
        })
        .collect()
}

fn title(trends: &[analysis::Trend]) -> String {
    let slice = trends[0].slice.as_ref().map_or_else(String::new, |slice| format!(", {slice}"));
    format!("Word error rate over runs{slice}")
}

fn print_page(trends: &[analysis::Trend]) -> Result<(), Failure> {
    let mut text = title(trends) + "\n";
    for (trend, line) in trends.iter().zip(lines(trends)) {
        text += &format!("\n{}\n{}\n\n", trend.variant, terminal_trend(&line, output::width().min(100) as u16));
        text += &points_table(std::slice::from_ref(trend)).text();
    }
    text += "\nDots: 95 % interval. Each run against the one before, over the clips of both;\nverdicts hold for all steps together.\n";
    output::print(&text)
}

fn points_table(trends: &[analysis::Trend]) -> Table {
    let several = trends.len() > 1;
    let mut columns = vec![
        ">run",
        "label",
        "engine version",
        ">clips",
        ">words",
        ">WER",
        ">95 % interval",
        ">change",
        "against the run before",
    ];
    if several {
        columns.insert(0, "variant");
    }
    let mut table = Table::new(columns);
    for trend in trends {
        for point in &trend.points {
            let mut cells = vec![
                point.run.to_string(),
                point.label.clone().unwrap_or_default(),
                point.engine_version.clone().unwrap_or_default(),
                point.clips.to_string(),
                point.words.to_string(),
                percent(point.wer),
                point.interval.map_or_else(String::new, |i| format!("{:.1} to {:.1}", i.low * 100.0, i.high * 100.0)),
            ];
            cells.extend(change_cells(point.change.as_ref()));
            if several {
                cells.insert(0, trend.variant.clone());
            }
            table.row(cells);
        }
    }
    table
}

fn change_cells(change: Option<&Finding>) -> [String; 2] {
    let Some(change) = change else { return [String::new(), String::new()] };
    let points = change.difference.map_or_else(|| "–".to_owned(), |d| format!("{} pts", percent_points(d)));
    let sign = match change.verdict {
        Verdict::Worse => "▲ ",
        Verdict::Better => "▼ ",
        Verdict::CannotTell => "",
    };
    let unchanged = change.verdict == Verdict::CannotTell && change.difference == Some(0.0);
    [points, if unchanged { "no change".to_owned() } else { format!("{sign}{}", change.verdict.as_str()) }]
}
