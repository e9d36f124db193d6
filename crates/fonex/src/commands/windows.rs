//! `fonex windows`: the same clips at several windows or pause rules, error rate against delay.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use clap::Args;
use fonex_analysis::{RunView, Wanted};
use fonex_core::latency::window_delays;
use fonex_core::measures::{Estimator, Sample, Unit, estimate};
use fonex_core::stats::{Interval, UnitKind};
use fonex_core::{Clip, Task};
use fonex_engines::Delivery;
use fonex_formats::{Place, Problem, audio_path, read_corpus};
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_run::Sound;
use fonex_store::{RunState, Store};
use serde::Serialize;

use super::run::RunOptions;
use super::{find_run, load_run, run};
use crate::brief::Brief;
use crate::cli::Format;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, milliseconds, percent, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex windows windows --bench services.toml -o windows.svg"
)]
pub struct WindowsOptions {
    #[command(flatten)]
    pub run: RunOptions,
    /// Use this stored run instead of executing the plan
    #[arg(long = "run", value_name = "RUN")]
    pub stored: Option<String>,
    /// Write a chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
}

/// How long words wait, over all words.
#[derive(Serialize, schemars::JsonSchema)]
pub(super) struct Delay {
    p50: f64,
    p95: f64,
    /// The 95 % interval of the median, over trials.
    #[serde(skip_serializing_if = "Option::is_none")]
    interval: Option<Interval>,
}

/// One way of delivery, measured.
#[derive(Serialize, schemars::JsonSchema)]
pub(super) struct Window {
    variant: String,
    engine: String,
    delivery: String,
    wer: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    interval: Option<Interval>,
    /// From the end of a word to when its text could be there.
    #[serde(skip_serializing_if = "Option::is_none")]
    delay_ms: Option<Delay>,
    clips: u64,
}

pub fn windows(options: &WindowsOptions) -> Result<Code, Failure> {
    let bench = &options.run.bench.bench;
    let (code, which) = match &options.stored {
        Some(typed) => (Code::Done, typed.clone()),
        None => {
            // Seen before anything is sent.
            let (plan, deliveries) = run::planned_deliveries(&options.run)?;
            if !are_several(&deliveries) {
                return Err(one_delivery(&format!("the plan \"{plan}\"")).into());
            }
            let (code, run) = run::run_quietly(&options.run)?;
            (code, format!("#{run}"))
        }
    };
    let mut store = options.run.bench.store().existing()?;
    let run = find_run(&store, &which)?;
    let view = load_run(&mut store, run, None, &Wanted::default())?;
    let Some(measured) = windows_of(&store, &view, bench)? else {
        return Err(one_delivery(&format!("run {}", view.name())).into());
    };
    if let Some(path) = &options.output {
        output::write_chart(path, &chart(&measured))?;
    }
    let unfinished = view.run.state == RunState::Unfinished;
    match options.run.format.format {
        Format::Json => output::print_json(&Study { run: view.run.id, finished: !unfinished, windows: measured })?,
        form @ (Format::Table | Format::Markdown) => brief(&view, &measured).print(form)?,
        form => output::print_table(&table(&measured), form)?,
    }
    Ok(code)
}

/// The windows of a run, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Study {
    run: i64,
    finished: bool,
    windows: Vec<Window>,
}

/// What each way of delivery of a run showed; none where there was one way only.
pub(super) fn windows_of(store: &Store, view: &RunView, bench: &Path) -> Result<Option<Vec<Window>>, Failure> {
    let ways: Vec<Delivery> = view.variants.iter().map(|variant| variant.variant.delivery).collect();
    if are_several(&ways) { measure(store, view, bench).map(Some) } else { Ok(None) }
}

fn are_several(ways: &[Delivery]) -> bool {
    ways.windows(2).any(|pair| pair[0] != pair[1])
}

fn one_delivery(what: &str) -> Problem {
    let problem = Problem::new(format!("{what} delivers audio in one way only"), Place::default());
    problem.remedy(
        "give the plan several deliveries: delivery = [{ pieces = { window_s = 2 } }, { pieces = { window_s = 5 } }, \"whole\"]",
    )
}

fn measure(store: &Store, view: &RunView, bench: &Path) -> Result<Vec<Window>, Failure> {
    let corpus = bench.parent().unwrap_or(Path::new("")).join(&view.run.corpus_path);
    let corpus = read_corpus(&corpus).or_else(|_| read_corpus(Path::new(&view.run.corpus_path)))?;
    let mut audio = HashMap::new();
    let mut trials: Vec<Vec<Timed>> = view.variants.iter().map(|_| Vec::new()).collect();
    store.each_trial(view.run.id, |trial| {
        if let (false, true, Some(took_ms)) = (trial.key.warm_up, trial.outcome.is_answer(), trial.took_ms) {
            trials[trial.key.variant].push(Timed { clip: trial.key.clip_id, took_ms });
        }
    })?;
    let asked: HashSet<&str> = trials.iter().flatten().map(|trial| trial.clip.as_str()).collect();
    for clip in corpus.clips.iter().filter(|clip| asked.contains(clip.id.as_str())) {
        if let Some(source) = audio_path(&corpus.folder, clip).and_then(|path| Sound::decode(&path, clip.side).ok()) {
            audio.insert(clip.id.as_str(), source.audio);
        }
    }
    let labels: HashMap<&str, &Clip> = corpus.clips.iter().map(|clip| (clip.id.as_str(), clip)).collect();
    let hears = view.variants.iter().filter(|variant| variant.variant.task == Task::Hear);
    Ok(hears
        .map(|variant| {
            let delivery = variant.variant.delivery;
            let wer = variant.measures.get("wer");
            let live = |id: &str| variant.measures.get(id).map(|estimate| estimate.value);
            let delay_ms = match delivery {
                // Live, words are there when they were shown for good.
                Delivery::Live(_) => live("live_settled_p50").map(|p50| Delay {
                    p50,
                    p95: live("live_settled_p95").unwrap_or(p50),
                    interval: variant.measures.get("live_settled_p50").and_then(|estimate| estimate.interval),
                }),
                _ => delays(&trials[variant.place], &labels, &delivery, &audio),
            };
            Window {
                variant: variant.variant.name.clone(),
                engine: variant.variant.engine.clone(),
                delivery: delivery.to_string(),
                wer: wer.map(|wer| wer.value),
                interval: wer.and_then(|wer| wer.interval),
                delay_ms,
                clips: wer.map_or(0, |wer| wer.clips),
            }
        })
        .collect())
}

/// An answered trial.
struct Timed {
    clip: String,
    took_ms: f64,
}

/// How long words wait for their window and its work.
fn delays(
    trials: &[Timed],
    labels: &HashMap<&str, &Clip>,
    delivery: &Delivery,
    audio: &HashMap<&str, fonex_core::audio::Audio>,
) -> Option<Delay> {
    let mut sample = Sample::new(1, UnitKind::Clip);
    for (at, trial) in (0..).zip(trials) {
        let clip = trial.clip.as_str();
        let (Some(audio), Some(label)) = (audio.get(clip), labels.get(clip)) else { continue };
        let stretches = delivery.stretches(audio);
        // Without labelled words a word may end at any moment of the clip.
        let tenths = || (1..=10).map(|tenth| audio.duration_s() * f64::from(tenth) / 10.0).collect();
        let ends: Vec<f64> =
            if label.words.is_empty() { tenths() } else { label.words.iter().map(|word| word.end).collect() };
        let own = window_delays(&ends, &stretches, trial.took_ms / stretches.len() as f64);
        sample.add(at, [own.as_slice()].into_iter());
    }
    let at = |q: f64| estimate(Estimator::Quantile(q, |row| row[0]), &sample);
    let middle = at(0.5)?;
    Some(Delay { p50: middle.value, p95: at(0.95)?.value, interval: middle.interval })
}

/// The lowest error rate, and the least delay among the ways of delivery close to it.
fn brief(view: &RunView, measured: &[Window]) -> Brief {
    /// Error rates this close to the lowest are worth a shorter delay.
    const CLOSE: f64 = 0.02;
    let mut answer = Vec::new();
    let known: Vec<(&Window, f64)> = measured.iter().filter_map(|window| Some((window, window.wer?))).collect();
    if let Some((best, lowest)) = known.iter().min_by(|a, b| a.1.total_cmp(&b.1)) {
        let way = |window: &Window| format!("{} ({})", window.delivery, window.variant);
        let figures = |window: &Window| {
            let delay = window.delay_ms.as_ref().map(|delay| format!(", words after {}", milliseconds(delay.p50)));
            format!("WER {}{}", percent(window.wer), delay.unwrap_or_default())
        };
        answer.push(format!("{} has the lowest error rate: {}.", way(best), figures(best)));
        let close = known.iter().filter(|(_, wer)| *wer <= lowest + CLOSE);
        let delay = |window: &Window| window.delay_ms.as_ref().map_or(f64::INFINITY, |delay| delay.p50);
        let soonest = close.min_by(|a, b| delay(a.0).total_cmp(&delay(b.0)));
        if let Some((soonest, _)) = soonest.filter(|(window, _)| !std::ptr::eq(*window, *best)) {
            let points = CLOSE * 100.0;
            answer.push(format!(
                "Within {points:.0} points of it, {} is soonest: {}.",
                way(soonest),
                figures(soonest)
            ));
        }
        answer.push("These are figures, not verdicts; fonex compare tests the differences.".to_owned());
    }
    let state = if view.run.state == RunState::Unfinished { ", unfinished: the trials so far" } else { "" };
    Brief {
        heading: format!("Run {}{state}: {}", view.name(), plural(measured.len() as u64, "way") + " of delivery"),
        answer,
        tables: vec![table(measured)],
        more: vec![format!("fonex compare {}", view.run.id), format!("fonex show {}", view.run.id)],
        ..Brief::default()
    }
}

fn table(measured: &[Window]) -> Table {
    let mut table = Table::new([
        ("variant", 0),
        ("delivery", 0),
        ("clips", 2),
        ("WER", 0),
        ("delay median", 0),
        ("delay p95", 1),
    ])
    .noted("Delay: from the end of a word until its text can be available.");
    for window in measured {
        let wer = window.wer.map_or(Cell::Empty, |wer| Cell::Estimate(Unit::Share, wer, window.interval));
        let delay = window.delay_ms.as_ref();
        table.row([
            Cell::text(window.variant.as_str()),
            Cell::text(window.delivery.as_str()),
            Cell::Count(window.clips),
            wer,
            delay.map_or(Cell::Empty, |delay| Cell::Estimate(Unit::Ms, delay.p50, delay.interval)),
            Cell::figure(Unit::Ms, delay.map(|delay| delay.p95)),
        ]);
    }
    table
}

pub(super) fn chart(measured: &[Window]) -> String {
    let mut engines: Vec<&str> = Vec::new();
    for window in measured {
        if !engines.contains(&window.engine.as_str()) {
            engines.push(&window.engine);
        }
    }
    let series = engines.iter().map(|engine| {
        let own = measured.iter().filter(|window| window.engine == *engine);
        let mut points: Vec<(f64, f64, &Window)> =
            own.filter_map(|window| Some((window.delay_ms.as_ref()?.p50 / 1e3, window.wer?, window))).collect();
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        PlaneSeries {
            name: (*engine).to_owned(),
            labels: points.iter().map(|(.., window)| window.delivery.clone()).collect(),
            intervals: points.iter().map(|(.., window)| window.interval.map(|i| (i.low, i.high))).collect(),
            points: points.into_iter().map(|(x, y, _)| (x, y)).collect(),
            form: PlaneForm::Marks,
        }
    });
    plane_svg(&PlaneChart {
        equal_units: false,
        title: "Error rate against delay".into(),
        x: PlaneAxis {
            label: "median delay from the end of a word to its text, seconds".into(),
            from_zero: true,
            ..PlaneAxis::default()
        },
        y: PlaneAxis { label: "word error rate".into(), percent: true, from_zero: true, ..PlaneAxis::default() },
        series: series.collect(),
        guides: Vec::new(),
        note: "lower left is better; bars are 95 % intervals over clips: where they overlap, the order may be chance"
            .into(),
    })
}
