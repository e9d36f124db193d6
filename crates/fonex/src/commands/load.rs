//! `fonex load`: what an engine does under load, and where it gives way.

use std::path::PathBuf;

use clap::Args;
use fonex_core::latency::{LoadForm, LoadReport, LoadStep};
use fonex_core::measures::Unit;
use fonex_formats::{Place, Problem};
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_run::{Interrupt, LoadSteps, LoadWatch, Loaded, put_load, read_bench};
use fonex_store::StudyKind;

use super::studies::{find_study, keep_study};
use crate::brief::Brief;
use crate::cli::{BenchArg, Format, FormatArg, seconds_above_zero};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, milliseconds, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex load load --bench services.toml --rate 5,20,80 --seconds 2 -o load.svg"
)]
pub struct LoadOptions {
    /// Plan of the bench file; optional when there is only one
    pub plan: Option<String>,
    /// Requests per second of each step, sent whether or not earlier ones were answered (open loop)
    #[arg(long, value_name = "N,N", value_delimiter = ',', value_parser = seconds_above_zero)]
    pub rate: Vec<f64>,
    /// Requests in flight in each step (closed loop)
    #[arg(long, value_name = "N,N", value_delimiter = ',', value_parser = clap::value_parser!(u32).range(1..=2000))]
    pub concurrency: Vec<u32>,
    /// Duration of each step, in seconds
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub seconds: Option<f64>,
    /// Print this stored study, a number or last, and send nothing
    #[arg(long, value_name = "STUDY")]
    pub study: Option<String>,
    /// Write a chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Override a bench file value for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn load(options: &LoadOptions) -> Result<Code, Failure> {
    if let Some(typed) = &options.study {
        let store = options.bench.store().existing()?;
        print(&find_study::<Vec<LoadReport>>(&store, StudyKind::Load, typed)?.figures, options)?;
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let plan = bench.plan(options.plan.as_deref())?;
    let config = plan.load.clone().unwrap_or_default();
    let rates = if options.rate.is_empty() && options.concurrency.is_empty() { &config.rates } else { &options.rate };
    let concurrency = if options.rate.is_empty() && options.concurrency.is_empty() {
        &config.concurrency
    } else {
        &options.concurrency
    };
    let seconds = options.seconds.unwrap_or(config.seconds);
    let mut forms: Vec<LoadForm> = rates.iter().map(|rate| LoadForm::Rate(*rate)).collect();
    forms.extend(concurrency.iter().map(|count| LoadForm::Concurrent(*count)));
    if forms.is_empty() {
        let problem = Problem::new(format!("the plan \"{}\" has no load", plan.name), Place::file(&bench.path));
        return Err(problem
            .remedy("add load = { rates = [5, 10, 20] } to it, or write --rate 5,10,20 or --concurrency 1,2,4")
            .into());
    }
    let interrupt = Interrupt::listen();
    let Loaded { reports, broken_off } =
        put_load(&bench, plan, &LoadSteps { forms: &forms, seconds }, &interrupt, &Told)?;
    if let Some((variant, form)) = broken_off {
        output::caution(&format!("stopped during {variant} {}: that step is left out", named(form)));
    }
    if !reports.is_empty() {
        let number = keep_study(&options.bench.store().open()?, StudyKind::Load, &reports)?;
        output::note(&format!("Kept as study {number}: fonex report RUN --load {number} puts it on a page."));
    }
    if !reports.is_empty() || !interrupt.flag().is_set() {
        print(&reports, options)?;
    }
    Ok(if interrupt.flag().is_set() { Code::Interrupted } else { Code::Done })
}

fn print(reports: &[LoadReport], options: &LoadOptions) -> Result<(), Failure> {
    if let Some(path) = &options.output {
        output::write_chart(path, &chart(reports))?;
    }
    match options.format.format {
        Format::Json => output::print_json(&reports)?,
        form @ (Format::Table | Format::Markdown) => brief(reports).print(form)?,
        form => output::print_table(&table(reports), form)?,
    }
    Ok(())
}

/// Says on standard error how the steps go.
struct Told;

impl LoadWatch for Told {
    fn step(&self, variant: &str, step: &LoadStep) {
        output::note(&format!("{variant} {}: {}", named(step.form), step_in_words(step)));
    }

    fn left_out(&self, what: &str) {
        output::caution(what);
    }
}

fn named(form: LoadForm) -> String {
    match form {
        LoadForm::Rate(rate) => format!("{rate} a second"),
        LoadForm::Concurrent(count) => format!("{count} at once"),
    }
}

fn step_in_words(step: &LoadStep) -> String {
    let waited =
        step.waited_ms.as_ref().map_or_else(|| "no answer".to_owned(), |w| format!("median {}", milliseconds(w.p50)));
    let kinds: Vec<String> =
        step.failures.iter().map(|(outcome, count)| format!("{count} {}", outcome.as_str())).collect();
    let kinds = if kinds.is_empty() { String::new() } else { format!(" ({})", kinds.join(", ")) };
    format!("{}, {} failed{kinds}, {waited}", plural(step.requests, "request"), step.failed)
}

fn table(reports: &[LoadReport]) -> Table {
    let mut table = Table::new([
        ("variant", 0),
        ("load", 0),
        ("requests", 2),
        ("failed", 0),
        ("answers/s", 1),
        ("median", 0),
        ("p95", 0),
        ("p99", 2),
        ("new connections", 5),
        ("client late p95", 4),
        ("client CPU", 4),
        ("note", 1),
    ]);
    for report in reports {
        for (at, step) in report.steps.iter().enumerate() {
            let waited = |pick: fn(&fonex_core::latency::Percentiles) -> f64| {
                Cell::figure(Unit::Ms, step.waited_ms.as_ref().map(pick))
            };
            let mut notes = Vec::new();
            if report.knee == Some(at) {
                notes.push("knee");
            }
            if step.client_limits {
                notes.push("client is the limit");
            }
            table.row([
                Cell::text(report.variant.as_str()),
                Cell::text(named(step.form)),
                Cell::Count(step.requests),
                Cell::Alarm(step.failed),
                Cell::Figure(Unit::PerClip, step.answers_per_s),
                waited(|w| w.p50),
                waited(|w| w.p95),
                waited(|w| w.p99),
                Cell::Count(step.opened),
                Cell::figure(Unit::Ms, step.client_late_ms.as_ref().map(|late| late.p95)),
                Cell::figure(Unit::Share, step.client_cpu),
                Cell::text(notes.join(", ")),
            ]);
        }
    }
    table
}

fn brief(reports: &[LoadReport]) -> Brief {
    let mut lines = in_words(reports).into_iter();
    Brief {
        heading: lines.next().unwrap_or_default(),
        answer: lines.collect(),
        tables: vec![table(reports)],
        notes: vec![
            "Latency counts from when a request was due, so that queueing in the client is included.".to_owned(),
        ],
        ..Brief::default()
    }
}

/// What the steps come to, in sentences.
pub(super) fn in_words(reports: &[LoadReport]) -> Vec<String> {
    let mut lines = Vec::new();
    for report in reports {
        lines.push(match (report.knee, report.gives_way) {
            (Some(knee), _) => {
                format!("{} sustains {}, but not the next step.", report.variant, named(report.steps[knee].form))
            }
            (None, true) => format!("{} does not sustain the lightest step.", report.variant),
            (None, false) => {
                format!("{} sustains every step; add heavier ones to find its limit.", report.variant)
            }
        });
        if report.steps.iter().any(|step| step.client_limits) {
            lines.push("Marked steps were limited by this machine: they say little about the engine.".to_owned());
        }
    }
    lines
}

pub(super) fn chart(reports: &[LoadReport]) -> String {
    let series = reports.iter().flat_map(|report| {
        let at = |pick: fn(&fonex_core::latency::Percentiles) -> f64| {
            report
                .steps
                .iter()
                .filter_map(move |step| Some((step.answers_per_s, pick(step.waited_ms.as_ref()?))))
                .collect::<Vec<_>>()
        };
        let open = matches!(report.steps.first().map(|step| step.form), Some(LoadForm::Rate(_)));
        let how = if open { "by rate" } else { "at once" };
        let labels =
            report.steps.iter().enumerate().filter(|(_, step)| step.waited_ms.is_some()).map(|(number, step)| {
                let knee = if report.knee == Some(number) { ", knee" } else { "" };
                format!("{}{knee}", named(step.form))
            });
        let labels: Vec<String> = labels.collect();
        [
            PlaneSeries {
                name: format!("{}, {how}, median", report.variant),
                points: at(|w| w.p50),
                form: PlaneForm::Line,
                ..PlaneSeries::default()
            },
            PlaneSeries {
                name: format!("{}, {how}, p95", report.variant),
                points: at(|w| w.p95),
                labels,
                form: PlaneForm::Line,
                ..PlaneSeries::default()
            },
        ]
    });
    plane_svg(&PlaneChart {
        equal_units: false,
        title: "Waiting under load".into(),
        x: PlaneAxis { label: "answers a second".into(), from_zero: true, ..PlaneAxis::default() },
        y: PlaneAxis {
            label: "milliseconds from when a request was due to its answer, logarithmic".into(),
            log: true,
            ..PlaneAxis::default()
        },
        series: series.collect(),
        guides: Vec::new(),
        note: "steps from lightest to heaviest; where a line turns up, the engine is saturated".into(),
    })
}
