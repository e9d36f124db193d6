//! Load on the engines of a plan: steps of a number of requests a second, or of a number at a time.

mod pool;

use std::cell::RefCell;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::latency::{LoadCall, LoadForm, LoadReport, LoadStep};
use fonex_core::stats::stream;
use fonex_core::text::Label;
use fonex_core::{Clip, Delivery, Outcome, Task};
use fonex_engines::{Answer, Engine, Form, HearRequest, Juggled, Request, SpeakRequest, StopFlag, hear_by, juggle};
use fonex_formats::{Place, Problem, audio_path};
use fonex_system::allow_open_files;
use fonex_system::machine::own_processor_s;
use rand::RngExt;

use crate::bench::{Bench, Plan, PlannedVariant};
use crate::execute::{Interrupt, Sound};
use crate::{RunError, with_engine};
use pool::Pool;

/// Requests that may be under way in one step; what is due beyond them waits, and its waiting is counted.
const MOST_UNDER_WAY: usize = 512;
/// Open files of one request under way: its socket, and what its thread needs to wait for the network.
const FILES_EACH: u64 = 6;
/// Open files of everything else.
const FILES_BESIDE: u64 = 128;

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

/// What load came to.
#[derive(Debug)]
pub struct Loaded {
    /// One report a variant and kind of steps.
    pub reports: Vec<LoadReport>,
    /// The step that was under way when it was stopped: it is in no report.
    pub broken_off: Option<(String, LoadForm)>,
}

/// Puts the steps on every variant of a plan, one variant after the other. Open and closed steps are reported apart. Nothing
/// is tried again: what a service refuses under load is a finding.
///
/// # Errors
/// When the corpus cannot be read, an engine cannot be built, or this machine does not allow this many requests at a time.
pub fn put_load(
    bench: &Bench,
    plan: &Plan,
    steps: &LoadSteps<'_>,
    interrupt: &Interrupt,
    watch: &dyn LoadWatch,
) -> Result<Loaded, RunError> {
    let clips = clips(bench, plan, watch)?;
    let _heeding = interrupt.heed();
    let stop = interrupt.flag();
    let most = threads_allowed(steps.forms)?;
    let mut loaded = Loaded { reports: Vec::new(), broken_off: None };
    for variant in plan.variants.iter().filter(|variant| variant.hears.is_none()).take_while(|_| !stop.is_set()) {
        let mut config = bench.engine(&variant.engine)?.clone();
        config.retry.attempts = 1;
        let measured = with_engine(&config, bench, HashMap::new(), |engine| {
            let ask = Ask { engine, variant, clips: &clips, stop };
            let mut measured = Vec::new();
            let mut broken_off = None;
            thread::scope(|scope| {
                let pool = Pool::new(scope, most);
                for form in steps.forms {
                    ask.warm_up(&pool, *form);
                    let step = ask.step(&pool, *form, steps.seconds, bench.seed);
                    if stop.is_set() {
                        broken_off = Some((variant.name.clone(), *form));
                        break;
                    }
                    watch.step(&variant.name, &step);
                    measured.push(step);
                }
            });
            (measured, broken_off)
        })?;
        loaded.broken_off = measured.1;
        // Open and closed steps are not compared with each other.
        let (open, closed): (Vec<_>, Vec<_>) =
            measured.0.into_iter().partition(|step| matches!(step.form, LoadForm::Rate(_)));
        for steps in [open, closed] {
            if !steps.is_empty() {
                loaded.reports.push(LoadReport::of(&variant.name, steps));
            }
        }
    }
    Ok(loaded)
}

/// How many requests may be under way: as many as the steps want, as far as this machine gives open files.
fn threads_allowed(forms: &[LoadForm]) -> Result<usize, Problem> {
    let concurrent = |form: &LoadForm| match form {
        LoadForm::Concurrent(count) => *count as usize,
        LoadForm::Rate(_) => 0,
    };
    let least = forms.iter().map(concurrent).max().unwrap_or(0).max(1);
    let wanted = least.max(MOST_UNDER_WAY);
    let files = allow_open_files(wanted as u64 * FILES_EACH + FILES_BESIDE);
    let most = (files.saturating_sub(FILES_BESIDE) / FILES_EACH) as usize;
    if most < least {
        let what = format!("{least} concurrent requests need about {} open files", least as u64 * FILES_EACH);
        let problem = Problem::new(format!("{what}, and this machine allows {files}"), Place::default());
        return Err(problem.remedy(format!("raise the limit (ulimit -n), or ask for {most} at a time")));
    }
    Ok(most.min(wanted))
}

/// What is asked with.
struct Asked {
    clip: Clip,
    sound: Sound,
    /// What its label reads, to be spoken or answered.
    text: String,
}

fn clips(bench: &Bench, plan: &Plan, watch: &dyn LoadWatch) -> Result<Vec<Asked>, RunError> {
    let corpus = bench.read_corpus(Some(plan))?;
    let hears = plan.variants.iter().any(|variant| variant.task == Task::Hear && variant.hears.is_none());
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
        let text = Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
        clips.push(Asked { clip: clip.clone(), sound, text });
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
#[derive(Clone, Copy)]
struct Ask<'a> {
    engine: &'a dyn Engine,
    variant: &'a PlannedVariant,
    clips: &'a [Asked],
    stop: &'a StopFlag,
}

impl<'a> Ask<'a> {
    /// What is asked with a clip.
    fn request(&self, number: usize) -> Request<'a> {
        let Asked { clip, sound, text } = &self.clips[number % self.clips.len()];
        let PlannedVariant { voice, model, settings, .. } = self.variant;
        let (form, lang, stop) = (Form { voice, model, settings }, clip.lang.as_deref(), self.stop);
        if let (Task::Hear, Sound::Held(source)) = (self.variant.task, sound) {
            let audio = &source.audio;
            return Request::Hear(HearRequest { clip_id: &clip.id, lang, audio, form, stop, live: None });
        }
        let request = SpeakRequest::new(&clip.id, lang, text, form, stop);
        if self.variant.task == Task::Reply { Request::Reply(request) } else { Request::Speak(request) }
    }

    /// Gives the outcome, and the connections that were opened for it.
    fn ask(&self, number: usize) -> (Outcome, u64) {
        match self.request(number) {
            Request::Hear(request) => ended(&hear_by(self.variant.delivery, self.engine, &request)),
            Request::Speak(request) => ended(&self.engine.speak(&request)),
            Request::Reply(request) => ended(&self.engine.reply(&request)),
        }
    }

    /// The engine, where what is under way needs no thread of its own.
    fn juggled(&self) -> Option<&'a dyn Juggled> {
        self.engine.as_juggled().filter(|_| self.variant.delivery == Delivery::Whole)
    }

    /// Asks with so many under way at any time, on a thread for each processor where the engine is juggled; `numbers` gives those of the requests that some of them make, and `note` is told of each.
    fn all_at_once<'env, N: Iterator<Item = usize>>(
        &self,
        pool: &Pool<'_, 'env>,
        (juggled, count): (Option<&'a dyn Juggled>, usize),
        started: Instant,
        numbers: impl Fn(Range<usize>) -> N + Send + Sync + 'env,
        note: impl Fn(LoadCall) + Send + Sync + 'env,
    ) where
        'a: 'env,
    {
        let ask = *self;
        let Some(engine) = juggled else {
            return pool.on_each(count, move |thread| {
                let numbers = numbers(thread..thread + 1);
                numbers.for_each(|number| note(ask.timed(number, ms_since(started), started)));
            });
        };
        let threads = thread::available_parallelism().map_or(1, std::num::NonZero::get).min(count);
        pool.on_each(threads, move |thread| {
            let share = count * thread / threads..count * (thread + 1) / threads;
            let (lanes, numbers) = (share.len(), RefCell::new(numbers(share)));
            let next = || numbers.borrow_mut().next().map(|number| (ms_since(started), ask.request(number)));
            juggle(engine, thread, lanes, next, |began_ms, answer| {
                let (outcome, opened) = ended(answer);
                note(LoadCall { due_ms: began_ms, began_ms, ended_ms: ms_since(started), outcome, opened });
            });
        });
    }

    /// Requests that nobody counts, so that programs are started and connections open: as many at a time as the step will
    /// have, for a rate by the time that one takes.
    fn warm_up<'env>(&self, pool: &Pool<'_, 'env>, form: LoadForm)
    where
        'a: 'env,
    {
        // What is due at its own moment has a thread, which begins at once.
        let juggled = if matches!(form, LoadForm::Concurrent(_)) { self.juggled() } else { None };
        let started = Instant::now();
        self.once_each(pool, juggled, 1);
        let takes_s = started.elapsed().as_secs_f64();
        let at_a_time = match form {
            LoadForm::Concurrent(count) => count as usize,
            LoadForm::Rate(rate) => ((2.0 * rate * takes_s).ceil() as usize + 1).min(MOST_WARM),
        };
        self.once_each(pool, juggled, at_a_time);
    }

    /// So many requests, all at the same time.
    fn once_each<'env>(&self, pool: &Pool<'_, 'env>, juggled: Option<&'a dyn Juggled>, count: usize)
    where
        'a: 'env,
    {
        self.all_at_once(pool, (juggled, count), Instant::now(), |share| share, |_| {});
    }

    fn step<'env>(&self, pool: &Pool<'_, 'env>, form: LoadForm, seconds: f64, seed: u64) -> LoadStep
    where
        'a: 'env,
    {
        let busy_before = own_processor_s();
        let started = Instant::now();
        let calls = match form {
            LoadForm::Rate(rate) => self.open(pool, &arrivals(rate, seconds, seed), started),
            LoadForm::Concurrent(count) => self.closed(pool, count as usize, seconds, started),
        };
        let wall = started.elapsed().as_secs_f64();
        let cores = thread::available_parallelism().map_or(1, std::num::NonZero::get) as f64;
        let cpu = own_processor_s().zip(busy_before).map(|(after, before)| (after - before) / wall / cores);
        LoadStep::of(form, &calls, cpu)
    }

    /// Requests begin when they are due, however long earlier ones take.
    fn open<'env>(&self, pool: &Pool<'_, 'env>, due_ms: &[f64], started: Instant) -> Vec<LoadCall>
    where
        'a: 'env,
    {
        let (ask, calls) = (*self, Arc::new(Mutex::new(Vec::with_capacity(due_ms.len()))));
        for (number, due_ms) in due_ms.iter().copied().enumerate() {
            let until = fonex_core::latency::span(due_ms / 1e3);
            while until > started.elapsed() && !self.stop.is_set() {
                thread::sleep(until.saturating_sub(started.elapsed()).min(STOP_CHECK));
            }
            if self.stop.is_set() {
                break;
            }
            let calls = Arc::clone(&calls);
            pool.start(move || {
                let call = ask.timed(number, due_ms, started);
                calls.lock().expect("no thread panics").push(call);
            });
        }
        pool.finish();
        std::mem::take(&mut *calls.lock().expect("no thread panics"))
    }

    /// This many are under way at any time.
    fn closed<'env>(&self, pool: &Pool<'_, 'env>, count: usize, seconds: f64, started: Instant) -> Vec<LoadCall>
    where
        'a: 'env,
    {
        let (stop, calls, begun) = (self.stop, Arc::new(Mutex::new(Vec::new())), Arc::new(AtomicUsize::new(0)));
        let numbers = move |_| {
            let begun = Arc::clone(&begun);
            std::iter::from_fn(move || {
                let more = started.elapsed().as_secs_f64() < seconds && !stop.is_set();
                more.then(|| begun.fetch_add(1, Ordering::Relaxed))
            })
        };
        let kept = Arc::clone(&calls);
        self.all_at_once(pool, (self.juggled(), count), started, numbers, move |call| {
            kept.lock().expect("no thread panics").push(call);
        });
        std::mem::take(&mut *calls.lock().expect("no thread panics"))
    }

    fn timed(&self, number: usize, due_ms: f64, started: Instant) -> LoadCall {
        let began_ms = ms_since(started);
        let (outcome, opened) = self.ask(number);
        LoadCall { due_ms, began_ms, ended_ms: ms_since(started), outcome, opened }
    }
}

fn ms_since(started: Instant) -> f64 {
    started.elapsed().as_secs_f64() * 1e3
}

/// How often a wait looks for a stop.
const STOP_CHECK: Duration = Duration::from_millis(25);
/// Requests at a time that warm up a rate, at most.
const MOST_WARM: usize = 64;

fn ended<T>(answer: &Answer<T>) -> (Outcome, u64) {
    let opened = answer.measured.traffic.requests.iter().filter(|request| request.reused == Some(false));
    (answer.outcome, opened.count() as u64)
}

/// When the requests of a step are due, in milliseconds: exactly as many as the rate says, at moments drawn evenly over its
/// time. So a Poisson process falls where it is known how many fall (Cox and Lewis, "The Statistical Analysis of Series of
/// Events", 1966); its own number would be another in every step.
fn arrivals(rate: f64, seconds: f64, seed: u64) -> Vec<f64> {
    let mut random = stream(seed, &["arrivals", &rate.to_string()]);
    let count = (rate * seconds).round().max(1.0) as usize;
    let mut due: Vec<f64> = (0..count).map(|_| random.random::<f64>() * seconds * 1e3).collect();
    due.sort_unstable_by(f64::total_cmp);
    due
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_is_what_it_says_under_every_seed() {
        for seed in 0..50 {
            let due = arrivals(5.0, 3.0, seed);
            assert_eq!(due.len(), 15);
            assert!(due.is_sorted() && due.iter().all(|ms| (0.0..3_000.0).contains(ms)));
        }
        assert_ne!(arrivals(5.0, 3.0, 1), arrivals(5.0, 3.0, 2));
        assert_eq!(arrivals(0.1, 1.0, 1).len(), 1);
    }
}
