//! A worker: takes groups of trials off the queue, makes them, and lets go of them once what they gave is published.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use serde::Serialize;

use super::access::SpreadAddress;
use super::at_work::AtWork;
use super::coordinate::KEPT;
use super::link::Link;
use super::pace::{HELD, Together};
use super::shown::Shown;
use super::{FORM, JOBS, Job, Names, OBJECTS, TURNS, WORKERS, asked_key, bench_print};
use crate::RunError;
use crate::bench::{Bench, Plan};
use crate::execute::{Interrupt, WhenOver, no_thread};

/// How long a worker waits for a group before it looks for other jobs.
pub(super) const LOOK: Duration = Duration::from_millis(500);
/// How often a worker shows that it is at work.
pub(super) const SHOW: Duration = Duration::from_secs(5);

/// How a worker works.
#[derive(Debug, Clone)]
pub struct WorkOptions {
    /// Its name; no two have the same.
    pub name: String,
    /// The class of its machine.
    pub class: String,
    /// Trials at a time; those of the plan where nothing is said.
    pub concurrency: Option<usize>,
    /// Ends when there is no job left.
    pub until_done: bool,
}

/// What a worker has done.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct WorkReport {
    /// Trials it has made.
    pub trials: u64,
    /// Trials of them without an answer.
    pub failed: u64,
    /// Groups it has given up after too many deliveries.
    pub given_up: u64,
}

/// Somebody who is told what a worker does.
pub trait Working {
    /// It begins with a job.
    fn begins(&self, job: &Job);
    /// It leaves a job alone, and why.
    fn leaves(&self, job: &Job, why: &str);
}

/// Works on jobs until it is interrupted, or there is none left.
///
/// # Errors
/// When the server cannot be used, another worker has this name, or an engine cannot be built.
pub fn work(
    bench: &Bench,
    address: &SpreadAddress,
    options: &WorkOptions,
    interrupt: &Interrupt,
    told: &dyn Working,
) -> Result<WorkReport, RunError> {
    let link = Link::open(address, &options.name)?;
    let (jobs, workers) = (link.bucket(JOBS, KEPT)?, link.bucket(WORKERS, HELD)?);
    let turns = link.bucket(TURNS, HELD)?;
    let objects = link.objects(OBJECTS)?;
    let shown = Shown::begin(&link, workers, options)?;
    let pace = Arc::new(Together::new(&link, turns, &options.name)?);
    let ended = AtomicBool::new(false);
    let _heeding = interrupt.heed();
    let (mut left, mut begun) = (HashSet::new(), HashSet::new());
    thread::scope(|scope| {
        let spawned = thread::Builder::new().name("fonex-shown".to_owned()).spawn_scoped(scope, || {
            let mut last = Instant::now();
            while !ended.load(Ordering::SeqCst) {
                thread::sleep(Duration::from_millis(100));
                if last.elapsed() >= SHOW {
                    shown.tell();
                    pace.renew();
                    last = Instant::now();
                }
            }
        });
        spawned.map_err(|error| no_thread(&error))?;
        let _over = WhenOver::new(|| ended.store(true, Ordering::SeqCst));
        (|| {
            while !interrupt.flag().is_set() {
                let mut found = false;
                for token in link.patiently(interrupt.flag(), || link.keys(&jobs))? {
                    let entry = link.patiently(interrupt.flag(), || link.entry(&jobs, &token))?;
                    let Some(entry) = entry else { continue };
                    let Ok(job) = serde_json::from_slice::<Job>(&entry.value) else { continue };
                    let plan = bench.plans.get(&job.plan);
                    if let Some(why) = why_not(&job, bench, plan, options) {
                        if left.insert(token) {
                            told.leaves(&job, &why);
                        }
                        continue;
                    }
                    let Some(plan) = plan else { continue };
                    // What nobody stores is not made: whoever asked may be gone for good.
                    let asked =
                        link.patiently(interrupt.flag(), || link.entry(shown.workers(), &asked_key(&token)))?;
                    if asked.is_none() {
                        continue;
                    }
                    found = true;
                    if begun.insert(token.clone()) {
                        told.begins(&job);
                    }
                    let at_work =
                        AtWork { link: &link, objects: &objects, bench, plan, options, interrupt, shown: &shown };
                    at_work.job(&job, &token, &jobs, &pace)?;
                }
                if !found {
                    if options.until_done {
                        break;
                    }
                    interrupt.flag().pause(LOOK);
                }
            }
            Ok::<(), RunError>(())
        })()
    })?;
    shown.end();
    Ok(shown.report())
}

/// Why a worker leaves a job alone.
fn why_not(job: &Job, bench: &Bench, plan: Option<&Plan>, options: &WorkOptions) -> Option<String> {
    let own = env!("CARGO_PKG_VERSION");
    if job.form != FORM || job.fonex != own {
        return Some(format!("it is of Fonex {}, and this is {own}", job.fonex));
    }
    if let Some(class) = job.class.as_ref().filter(|class| **class != options.class) {
        return Some(format!("it is for machines of class {class}, and this is {}", options.class));
    }
    match plan {
        None => Some(format!("the bench file has no plan {}", job.plan)),
        Some(plan) if bench_print(bench, plan) != job.bench => Some(
            "its plan, engines, text profile or seed are not those of this bench file (--set has to be the same)"
                .to_owned(),
        ),
        Some(_) => None,
    }
}

/// Removes the jobs that nobody asks for any more, with what is on their queues. Gives how many.
///
/// # Errors
/// When the server cannot be used.
pub fn clear(address: &SpreadAddress) -> Result<u64, RunError> {
    let link = Link::open(address, "fonex work --clear")?;
    let (jobs, workers) = (link.bucket(JOBS, KEPT)?, link.bucket(WORKERS, HELD)?);
    let mut cleared = 0;
    for token in link.keys(&jobs)? {
        let Some(entry) = link.entry(&jobs, &token)? else { continue };
        if link.entry(&workers, &asked_key(&token))?.is_none() {
            if let (Ok(job), Ok(objects)) = (serde_json::from_slice::<Job>(&entry.value), link.objects(OBJECTS)) {
                link.delete_object(&objects, &job.clips);
            }
            link.ask("remove the job", jobs.purge(&token))?;
            let names = Names::of(&token);
            link.delete_queue(&names.todo);
            link.delete_queue(&names.done);
            cleared += 1;
        }
    }
    Ok(cleared)
}
