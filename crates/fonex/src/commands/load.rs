//! `fonex load`: what an engine does when many ask at once, and where it gives way.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::Outcome;
use fonex_core::latency::{LoadCall, LoadForm, LoadReport, LoadStep};
use fonex_core::stats::stream;
use fonex_core::text::Label;
use fonex_engines::{Engine, Form, HearRequest, SpeakRequest, StopFlag, Task};
use fonex_formats::{Place, Problem, audio_path};
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_store::StudyKind;
use rand::RngExt;

use super::studies::{find_study, keep_study};
use super::with_engine;
use crate::bench::{Bench, PlannedVariant, existing_store, open_store, read_bench};
use crate::cli::{Format, Load};
use crate::execute::{Heardable, Sound, stop_on_interrupt};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, milliseconds, percent, plural};

/// Requests that may be under way in one step; what is due beyond them waits, and its waiting is counted.
const MOST_UNDER_WAY: usize = 512;

pub fn load(options: &Load) -> Result<Code, Failure> {
    if let Some(typed) = &options.of {
        let store = existing_store(&options.bench.bench)?;
        print(&find_study::<Vec<LoadReport>>(&store, StudyKind::Load, typed)?.figures, options)?;
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let plan = bench.plan(options.plan.as_deref())?;
    let config = plan.load.clone().unwrap_or_default();
    let rates = if options.rate.is_empty() && options.at_once.is_empty() { &config.rates } else { &options.rate };
    let at_once =
        if options.rate.is_empty() && options.at_once.is_empty() { &config.at_once } else { &options.at_once };
    let seconds = options.seconds.unwrap_or(config.seconds);
    let mut forms: Vec<LoadForm> = rates.iter().map(|rate| LoadForm::Rate(*rate)).collect();
    forms.extend(at_once.iter().map(|count| LoadForm::AtOnce(*count)));
    if forms.is_empty() {
        let problem =
            Problem::new(format!("the plan \"{}\" says nothing of load", plan.name), Place::file(&bench.path));
        return Err(problem
            .remedy("add load = { rates = [5, 10, 20] } to it, or write --rate 5,10,20 or --at-once 1,2,4")
            .into());
    }
    let clips = clips(&bench, plan)?;
    let stop = stop_on_interrupt();
    let mut reports = Vec::new();
    for variant in &plan.variants {
        let config = bench.engine(&variant.engine)?;
        let steps = with_engine(config, &bench, std::collections::HashMap::new(), |engine| {
            let ask = Ask { engine, variant, clips: &clips, stop: &stop };
            // One request nobody counts: connections are opened and programs started.
            ask.ask(0);
            forms
                .iter()
                .take_while(|_| !stop.is_set())
                .map(|form| {
                    let step = ask.step(*form, seconds, bench.seed);
                    eprintln!("{} {}: {}", variant.name, named(*form), step_in_words(&step));
                    step
                })
                .collect::<Vec<_>>()
        })?;
        // Open and closed steps are not held against each other.
        let (open, closed): (Vec<_>, Vec<_>) =
            steps.into_iter().partition(|step| matches!(step.form, LoadForm::Rate(_)));
        for steps in [open, closed] {
            if !steps.is_empty() {
                reports.push(LoadReport::of(&variant.name, steps));
            }
        }
    }
    if !reports.is_empty() {
        let number = keep_study(&open_store(&options.bench.bench)?, StudyKind::Load, &reports)?;
        eprintln!("Kept as study {number}: fonex report RUN --load {number} puts it on a page.");
    }
    print(&reports, options)?;
    Ok(if stop.is_set() { Code::Interrupted } else { Code::Done })
}

fn print(reports: &[LoadReport], options: &Load) -> Result<(), Failure> {
    if let Some(path) = &options.output {
        output::write_chart(path, &chart(reports))?;
    }
    match options.format.format {
        Format::Json => output::print_json(&reports)?,
        Format::Table => output::print(&page(reports))?,
        form => output::print_table(&table(reports), form)?,
    }
    Ok(())
}

fn clips(bench: &Bench, plan: &crate::bench::Plan) -> Result<Vec<Heardable>, Failure> {
    let corpus = bench.read_corpus(Some(plan))?;
    let hears = plan.variants.iter().any(|variant| variant.task == Task::Hear);
    let mut clips = Vec::new();
    for clip in corpus.clips.iter().filter(|clip| plan.selects(clip)) {
        let sound = match audio_path(&corpus.folder, clip).filter(|_| hears) {
            Some(path) => match Sound::decode(&path, clip.side) {
                Ok(source) => Sound::Held(source),
                Err(why) => {
                    output::caution(&format!("clip {} is left out: {why}", clip.id));
                    continue;
                }
            },
            None if hears => continue,
            None => Sound::Absent,
        };
        clips.push(Heardable { clip: clip.clone(), sound });
    }
    if clips.is_empty() {
        return Err(Problem::new(
            format!("the plan \"{}\" has no clip to ask with", plan.name),
            Place::file(&bench.path),
        )
        .into());
    }
    Ok(clips)
}

/// Asks one variant.
struct Ask<'a> {
    engine: &'a dyn Engine,
    variant: &'a PlannedVariant,
    clips: &'a [Heardable],
    stop: &'a StopFlag,
}

impl Ask<'_> {
    fn ask(&self, number: usize) -> Outcome {
        let Heardable { clip, sound } = &self.clips[number % self.clips.len()];
        let PlannedVariant { voice, model, settings, .. } = self.variant;
        let (form, lang, stop) = (Form { voice, model, settings }, clip.lang.as_deref(), self.stop);
        if let (Task::Hear, Sound::Held(source)) = (self.variant.task, sound) {
            let request = HearRequest { clip_id: &clip.id, lang, audio: &source.audio, form, stop, live: None };
            return self.variant.delivery.hear(self.engine, &request).outcome;
        }
        let text = Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
        let request = SpeakRequest::new(&clip.id, lang, &text, form, stop);
        match self.variant.task {
            Task::Reply => self.engine.reply(&request).outcome,
            _ => self.engine.speak(&request).outcome,
        }
    }

    fn step(&self, form: LoadForm, seconds: f64, seed: u64) -> LoadStep {
        let busy_before = processor_s();
        let started = Instant::now();
        let calls = match form {
            LoadForm::Rate(rate) => self.open(rate, seconds, seed, started),
            LoadForm::AtOnce(count) => self.closed(count, seconds, started),
        };
        let wall = started.elapsed().as_secs_f64();
        let cores = thread::available_parallelism().map_or(1, std::num::NonZero::get) as f64;
        let cpu = processor_s().zip(busy_before).map(|(after, before)| (after - before) / wall / cores);
        LoadStep::of(form, &calls, cpu)
    }

    /// Requests begin when they are due, by independent arrivals, however long earlier ones take.
    fn open(&self, rate: f64, seconds: f64, seed: u64, started: Instant) -> Vec<LoadCall> {
        let mut random = stream(seed, &["arrivals", &rate.to_string()]);
        let mut due_s = 0.0;
        let mut due = Vec::new();
        loop {
            due_s -= (1.0 - random.random::<f64>()).ln() / rate;
            if due_s > seconds {
                break;
            }
            due.push(due_s * 1e3);
        }
        let calls = Mutex::new(Vec::with_capacity(due.len()));
        let next = AtomicUsize::new(0);
        // So many wait for their next due moment that a slow engine holds up no arrival.
        let waiting = due.len().min(MOST_UNDER_WAY);
        thread::scope(|scope| {
            for _ in 0..waiting {
                scope.spawn(|| {
                    loop {
                        let number = next.fetch_add(1, Ordering::Relaxed);
                        let Some(&due_ms) = due.get(number) else { return };
                        let until = Duration::from_secs_f64(due_ms / 1e3);
                        thread::sleep(until.saturating_sub(started.elapsed()));
                        if self.stop.is_set() {
                            return;
                        }
                        let call = self.timed(number, due_ms, started);
                        calls.lock().expect("no thread panics").push(call);
                    }
                });
            }
        });
        calls.into_inner().expect("no thread panics")
    }

    fn closed(&self, count: u32, seconds: f64, started: Instant) -> Vec<LoadCall> {
        let calls = Mutex::new(Vec::new());
        let next = AtomicUsize::new(0);
        thread::scope(|scope| {
            for _ in 0..count {
                scope.spawn(|| {
                    while started.elapsed().as_secs_f64() < seconds && !self.stop.is_set() {
                        let number = next.fetch_add(1, Ordering::Relaxed);
                        let call = self.timed(number, started.elapsed().as_secs_f64() * 1e3, started);
                        calls.lock().expect("no thread panics").push(call);
                    }
                });
            }
        });
        calls.into_inner().expect("no thread panics")
    }

    fn timed(&self, number: usize, due_ms: f64, started: Instant) -> LoadCall {
        let began_ms = started.elapsed().as_secs_f64() * 1e3;
        let outcome = self.ask(number);
        LoadCall { due_ms, began_ms, ended_ms: started.elapsed().as_secs_f64() * 1e3, outcome }
    }
}

/// Processor seconds this process has used, where the system tells.
fn processor_s() -> Option<f64> {
    const TICKS_A_SECOND: f64 = 100.0;
    let stat = std::fs::read_to_string("/proc/self/stat").ok()?;
    // The name in brackets may hold anything; the numbers stand behind it.
    let numbers: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
    let ticks: f64 = numbers.get(11)?.parse::<f64>().ok()? + numbers.get(12)?.parse::<f64>().ok()?;
    Some(ticks / TICKS_A_SECOND)
}

fn named(form: LoadForm) -> String {
    match form {
        LoadForm::Rate(rate) => format!("{rate} a second"),
        LoadForm::AtOnce(count) => format!("{count} at once"),
    }
}

fn step_in_words(step: &LoadStep) -> String {
    let waited =
        step.waited_ms.as_ref().map_or_else(|| "no answer".to_owned(), |w| format!("median {}", milliseconds(w.p50)));
    format!("{}, {} failed, {waited}", plural(step.requests, "request"), step.failed)
}

fn table(reports: &[LoadReport]) -> Table {
    let header = [
        "variant",
        "load",
        ">requests",
        ">failed",
        ">answers/s",
        ">median",
        ">p95",
        ">p99",
        ">client late p95",
        ">client CPU",
        "",
    ];
    let mut table = Table::new(header);
    for report in reports {
        for (at, step) in report.steps.iter().enumerate() {
            let waited = |pick: fn(&fonex_core::latency::Percentiles) -> f64| {
                step.waited_ms.as_ref().map_or_else(|| "–".to_owned(), |w| milliseconds(pick(w)))
            };
            let mut notes = Vec::new();
            if report.knee == Some(at) {
                notes.push("knee");
            }
            if step.client_limits {
                notes.push("client is the limit");
            }
            table.row([
                report.variant.clone(),
                named(step.form),
                step.requests.to_string(),
                step.failed.to_string(),
                format!("{:.1}", step.answers_per_s),
                waited(|w| w.p50),
                waited(|w| w.p95),
                waited(|w| w.p99),
                step.client_late_ms.as_ref().map_or_else(|| "–".to_owned(), |late| milliseconds(late.p95)),
                percent(step.client_cpu),
                notes.join(", "),
            ]);
        }
    }
    table
}

fn page(reports: &[LoadReport]) -> String {
    let mut text = table(reports).text();
    text += "Times are from when a request was due, so that waiting to begin is not hidden.\n";
    for line in in_words(reports) {
        text += &line;
        text.push('\n');
    }
    text
}

/// What the steps come to, in sentences.
pub(super) fn in_words(reports: &[LoadReport]) -> Vec<String> {
    let mut lines = Vec::new();
    for report in reports {
        lines.push(match (report.knee, report.gives_way) {
            (Some(knee), _) => {
                format!(
                    "{} keeps up with {}, and not with the next step.",
                    report.variant,
                    named(report.steps[knee].form)
                )
            }
            (None, true) => format!("{} does not keep up with the lightest step.", report.variant),
            (None, false) => {
                format!("{} keeps up with every step; heavier ones would show where it gives way.", report.variant)
            }
        });
        if report.steps.iter().any(|step| step.client_limits) {
            lines.push("Steps marked so were held up by this machine: they say little of the engine.".to_owned());
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
                labels: Vec::new(),
                form: PlaneForm::Line,
            },
            PlaneSeries {
                name: format!("{}, {how}, p95", report.variant),
                points: at(|w| w.p95),
                labels,
                form: PlaneForm::Line,
            },
        ]
    });
    plane_svg(&PlaneChart {
        title: "Waiting under load".into(),
        x: PlaneAxis { label: "answers a second".into(), from_zero: true, ..PlaneAxis::default() },
        y: PlaneAxis {
            label: "milliseconds from when a request was due to its answer, logarithmic".into(),
            log: true,
            ..PlaneAxis::default()
        },
        series: series.collect(),
        guides: Vec::new(),
        note: "steps from the lightest to the heaviest; where a line turns up, the engine gives way".into(),
    })
}
