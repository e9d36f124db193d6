//! Load on the engines of a plan: steps of so many requests a second, or so many at a time.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::latency::{LoadCall, LoadForm, LoadReport, LoadStep};
use fonex_core::stats::stream;
use fonex_core::text::Label;
use fonex_core::{Outcome, Task};
use fonex_engines::{Engine, Form, HearRequest, SpeakRequest, StopFlag};
use fonex_formats::{Place, Problem, audio_path};
use rand::RngExt;

use crate::bench::{Bench, Plan, PlannedVariant};
use crate::execute::{Heardable, Sound};
use crate::{RunError, with_engine};

/// Requests that may be under way in one step; what is due beyond them waits, and its waiting is counted.
const MOST_UNDER_WAY: usize = 512;

/// The steps of load.
#[derive(Debug, Clone, Copy)]
pub struct LoadSteps<'s> {
    /// Each step's form, from the lightest to the heaviest.
    pub forms: &'s [LoadForm],
    /// Seconds of each.
    pub seconds: f64,
}

/// Somebody who follows the steps.
pub trait LoadWatch {
    /// A step has ended.
    fn step(&self, variant: &str, step: &LoadStep);
    /// A clip cannot be used.
    fn left_out(&self, what: &str);
}

/// Puts the steps on every variant of a plan, one variant after the other. Open and closed steps are reported apart.
///
/// # Errors
/// When the corpus cannot be read, or an engine cannot be built.
pub fn put_load(
    bench: &Bench,
    plan: &Plan,
    steps: &LoadSteps<'_>,
    stop: &StopFlag,
    watch: &dyn LoadWatch,
) -> Result<Vec<LoadReport>, RunError> {
    let clips = clips(bench, plan, watch)?;
    let mut reports = Vec::new();
    for variant in &plan.variants {
        let config = bench.engine(&variant.engine)?;
        let measured = with_engine(config, bench, HashMap::new(), |engine| {
            let ask = Ask { engine, variant, clips: &clips, stop };
            // One request nobody counts: connections are opened and programs started.
            ask.ask(0);
            let wanted = steps.forms.iter().take_while(|_| !stop.is_set());
            wanted
                .map(|form| {
                    let step = ask.step(*form, steps.seconds, bench.seed);
                    watch.step(&variant.name, &step);
                    step
                })
                .collect::<Vec<_>>()
        })?;
        // Open and closed steps are not held against each other.
        let (open, closed): (Vec<_>, Vec<_>) =
            measured.into_iter().partition(|step| matches!(step.form, LoadForm::Rate(_)));
        for steps in [open, closed] {
            if !steps.is_empty() {
                reports.push(LoadReport::of(&variant.name, steps));
            }
        }
    }
    Ok(reports)
}

fn clips(bench: &Bench, plan: &Plan, watch: &dyn LoadWatch) -> Result<Vec<Heardable>, RunError> {
    let corpus = bench.read_corpus(Some(plan))?;
    let hears = plan.variants.iter().any(|variant| variant.task == Task::Hear);
    let mut clips = Vec::new();
    for clip in corpus.clips.iter().filter(|clip| plan.selects(clip)) {
        let sound = match audio_path(&corpus.folder, clip).filter(|_| hears) {
            Some(path) => match Sound::decode(&path, clip.side) {
                Ok(source) => Sound::Held(source),
                Err(why) => {
                    watch.left_out(&format!("clip {} is left out: {why}", clip.id));
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
            LoadForm::Concurrent(count) => self.closed(count, seconds, started),
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
