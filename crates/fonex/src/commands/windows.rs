//! `fonex windows`: the same clips at several windows or pause rules, error rate against delay.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use fonex_core::latency::{Percentiles, window_delays};
use fonex_core::stats::Interval;
use fonex_engines::Delivery;
use fonex_formats::{Place, Problem, Problems, audio_path, read_corpus};
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_store::RunRef;
use serde::Serialize;

use super::{find_run, run};
use crate::analysis::{RunView, VariantView};
use crate::bench::existing_store;
use crate::cli::{Format, Windows};
use crate::execute::Sound;
use crate::failure::{Code, Failure};
use crate::output::{self, Table, milliseconds, percent, rate_with_interval};

/// One way of delivery, measured.
#[derive(Serialize)]
pub(super) struct Window {
    variant: String,
    engine: String,
    delivery: String,
    wer: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    interval: Option<Interval>,
    /// From the end of a word to when its text could be there.
    #[serde(skip_serializing_if = "Option::is_none")]
    delay_ms: Option<Percentiles>,
    clips: u64,
}

pub fn windows(options: &Windows) -> Result<Code, Failure> {
    let code = match &options.of {
        Some(_) => Code::Done,
        None => run::run_quietly(&options.run)?,
    };
    let store = existing_store(&options.run.bench.bench)?;
    let run = match &options.of {
        Some(typed) => find_run(&store, typed)?,
        None => store.run(&RunRef::parse("last"))?.expect("a run just executed is in the store"),
    };
    let view = RunView::load_with_times(&store, run)?;
    let measured = measure(&view, &options.run.bench.bench)?;
    if measured.len() < 2 {
        let problem = Problem::new(format!("run {} delivered audio in one way only", view.name()), Place::default());
        let remedy = "give the plan several: delivery = [{ pieces = { window_s = 2 } }, { pieces = { window_s = 5 } }, \"whole\"]";
        return Err(problem.remedy(remedy).into());
    }
    if let Some(path) = &options.output {
        output::write_chart(path, &chart(&measured))?;
    }
    match options.run.format.format {
        Format::Json => output::print_json(&measured)?,
        form => output::print_table(&table(&measured), form)?,
    }
    Ok(code)
}

/// What each way of delivery of a run showed; none where there was one way only.
pub(super) fn windows_of(view: &RunView, bench: &Path) -> Result<Option<Vec<Window>>, Problems> {
    let mut ways: Vec<Option<&str>> =
        view.variants.iter().map(|variant| variant.variant.delivery.as_deref()).collect();
    ways.sort_unstable();
    ways.dedup();
    if ways.len() < 2 { Ok(None) } else { measure(view, bench).map(Some) }
}

fn measure(view: &RunView, bench: &Path) -> Result<Vec<Window>, Problems> {
    let corpus = bench.parent().unwrap_or(Path::new("")).join(&view.run.corpus_path);
    let corpus = read_corpus(&corpus).or_else(|_| read_corpus(Path::new(&view.run.corpus_path)))?;
    let mut audio = HashMap::new();
    let asked: HashSet<&str> =
        view.variants.iter().flat_map(|variant| &variant.records).map(|trial| trial.key.clip_id.as_str()).collect();
    for clip in corpus.clips.iter().filter(|clip| asked.contains(clip.id.as_str())) {
        if let Some(source) = audio_path(&corpus.folder, clip).and_then(|path| Sound::decode(&path, clip.side).ok()) {
            audio.insert(clip.id.as_str(), source.audio);
        }
    }
    let hears = view.variants.iter().filter(|variant| variant.variant.task == "hear");
    Ok(hears
        .map(|variant| {
            let delivery = variant.variant.delivery.as_deref().map_or(Some(Delivery::Whole), Delivery::parse);
            let score = variant.score.as_ref();
            Window {
                variant: variant.variant.name.clone(),
                engine: variant.variant.engine.clone(),
                delivery: variant.variant.delivery.clone().unwrap_or_else(|| "whole".to_owned()),
                wer: score.and_then(|score| score.words.wer),
                interval: score.and_then(|score| score.words.interval),
                delay_ms: delivery.and_then(|delivery| delays(variant, view, &delivery, &audio)),
                clips: score.map_or(0, |score| score.clips),
            }
        })
        .collect())
}

/// How long words wait: live as they were shown for good, else for their window and its work.
fn delays(
    variant: &VariantView,
    view: &RunView,
    delivery: &Delivery,
    audio: &HashMap<&str, fonex_core::audio::Audio>,
) -> Option<Percentiles> {
    if matches!(delivery, Delivery::Live(_)) {
        return variant.times.as_ref()?.live.as_ref()?.settled_ms;
    }
    let mut all = Vec::new();
    for trial in variant.records.iter().filter(|trial| trial.outcome.is_answer()) {
        let clip = trial.key.clip_id.as_str();
        let (Some(audio), Some(label), Some(took)) = (audio.get(clip), view.labels.get(clip), trial.took_ms) else {
            continue;
        };
        let stretches = delivery.stretches(audio);
        // Without labelled words a word may end at any moment of the clip.
        let tenths = || (1..=10).map(|tenth| audio.duration_s() * f64::from(tenth) / 10.0).collect();
        let ends: Vec<f64> =
            if label.words.is_empty() { tenths() } else { label.words.iter().map(|word| word.end).collect() };
        all.extend(window_delays(&ends, &stretches, took / stretches.len() as f64));
    }
    Percentiles::of(&all)
}

fn table(measured: &[Window]) -> Table {
    let mut table = Table::new(["variant", "delivery", ">clips", ">WER [95 %]", ">delay median", ">delay p95"]);
    for window in measured {
        let delay = |pick: fn(&Percentiles) -> f64| {
            window.delay_ms.as_ref().map_or_else(|| "–".to_owned(), |delay| milliseconds(pick(delay)))
        };
        table.row([
            window.variant.clone(),
            window.delivery.clone(),
            window.clips.to_string(),
            rate_with_interval(window.wer, window.interval),
            delay(|d| d.p50),
            delay(|d| d.p95),
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
        let mut points: Vec<(f64, f64, &str)> = measured
            .iter()
            .filter(|window| window.engine == *engine)
            .filter_map(|window| Some((window.delay_ms.as_ref()?.p50 / 1e3, window.wer?, window.delivery.as_str())))
            .collect();
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        PlaneSeries {
            name: (*engine).to_owned(),
            labels: points.iter().map(|(_, wer, name)| format!("{name}, {}", percent(Some(*wer)))).collect(),
            points: points.into_iter().map(|(x, y, _)| (x, y)).collect(),
            form: PlaneForm::Marks,
        }
    });
    plane_svg(&PlaneChart {
        title: "How long to wait for fewer errors".into(),
        x: PlaneAxis {
            label: "median delay from the end of a word to its text, seconds".into(),
            from_zero: true,
            ..PlaneAxis::default()
        },
        y: PlaneAxis { label: "word error rate".into(), percent: true, from_zero: true, ..PlaneAxis::default() },
        series: series.collect(),
        guides: Vec::new(),
        note: "down and to the left is better; a delivery above and to the right of another is never the one to take"
            .into(),
    })
}
