//! The run: what is to be done, by how many workers, and one writer that stores each trial as it ends.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::thread;
use std::time::Instant;

use fonex_core::{Clip, Outcome};
use fonex_engines::{Engine, EngineConfig, StopFlag, Task, build_engine};
use fonex_formats::{Corpus, Place, Problem, audio_path, checksum};
use fonex_store::{LeftOut, NewRun, Store, TrialKey, TrialRecord, Variant};

use super::trial::{Heardable, Sound, Trial};
use super::{machine, progress};
use crate::bench::{Bench, Plan};
use crate::failure::Failure;

/// How an execution ended.
#[derive(Debug)]
pub struct Execution {
    /// The run's number.
    pub run: i64,
    /// Trials that were there from an earlier, interrupted execution.
    pub resumed_with: u64,
    /// Why it was stopped before its end, if it was.
    pub stopped: Option<String>,
    /// Timed trials without an answer, earlier executions included.
    pub failed: u64,
    /// Clips that could not be used.
    pub left_out: Vec<LeftOut>,
}

/// Executes a plan, or what is left of an interrupted run of it.
///
/// # Errors
/// When the corpus cannot be read or the store cannot be written. Failing engines are no error: they are outcomes.
pub fn execute(
    bench: &Bench,
    plan: &Plan,
    label: Option<&str>,
    anew: bool,
    store: &mut Store,
    stop: &StopFlag,
) -> Result<Execution, Failure> {
    let corpus = bench.read_corpus(Some(plan))?;
    let material = Material::load(&corpus, plan)?;
    let fingerprint = fingerprint(bench, plan, &corpus);
    let unfinished = if anew { None } else { store.unfinished(&fingerprint, label)? };
    let labels: Arc<HashMap<String, Clip>> =
        Arc::new(material.usable.iter().map(|h| (h.clip.id.clone(), h.clip.clone())).collect());
    let run = match unfinished {
        Some(run) => run,
        None => {
            let engines = engines(bench, plan, &std::env::temp_dir(), &labels);
            let variants = stored_variants(bench, plan, &engines);
            store.create_run(&new_run(bench, plan, label, fingerprint, &corpus, &material, variants))?
        }
    };
    let lock = store.lock(run)?;
    let scratch = store.scratch(run)?;
    let engines = engines(bench, plan, &scratch, &labels);
    let done = store.done(run)?;
    let todo: Vec<TrialKey> = trial_keys(plan, &material).filter(|key| !done.contains(key)).collect();
    let bar = progress::trial_bar((todo.len() + done.len()) as u64, done.len() as u64);
    bar.set_prefix(format!("run {run}"));

    let stopped = run_trials(plan, &material, &engines, &todo, run, store, stop, &|record| {
        if !record.outcome.is_answer() {
            bar.set_message(format!("(last failure: {} on {})", record.outcome, record.key.clip_id));
        }
        bar.inc(1);
    })?;
    bar.finish_and_clear();
    if stopped.is_none() {
        store.finish_run(run, &machine::now())?;
    }
    store.unlock(run, lock);
    let failed = store.outcomes(run)?.iter().filter(|(outcome, _)| !outcome.is_answer()).map(|(_, n)| n).sum();
    Ok(Execution { run, resumed_with: done.len() as u64, stopped, failed, left_out: material.left_out })
}

/// The clips of a plan, with their audio where a recogniser takes part.
struct Material {
    usable: Vec<Heardable>,
    left_out: Vec<LeftOut>,
}

impl Material {
    fn load(corpus: &Corpus, plan: &Plan) -> Result<Self, Problem> {
        let hears = plan.variants.iter().any(|variant| variant.task == Task::Hear);
        let (mut usable, mut left_out, mut room) = (Vec::new(), Vec::new(), SAMPLES_HELD);
        for clip in corpus.clips.iter().filter(|clip| plan.selects(clip)) {
            let sound = if hears { sound_of(corpus, clip, &mut room) } else { Ok(Sound::Absent) };
            match sound {
                Ok(sound) => usable.push(Heardable { clip: clip.clone(), sound }),
                Err(reason) => left_out.push(LeftOut { clip_id: clip.id.clone(), reason }),
            }
        }
        if usable.is_empty() {
            let problem =
                Problem::new(format!("the plan \"{}\" has no clip to run", plan.name), Place::file(&corpus.path));
            return Err(match left_out.first() {
                Some(first) => problem.remedy(format!(
                    "{} clips cannot be used; the first, \"{}\": {}",
                    left_out.len(),
                    first.clip_id,
                    first.reason
                )),
                None => problem.remedy("its select matches no clip; check the tags and values in it"),
            });
        }
        Ok(Self { usable, left_out })
    }
}

/// Samples kept decoded between trials, 512 MiB of them; what is beyond is decoded again for each trial.
const SAMPLES_HELD: usize = 128 << 20;

/// Decodes a clip's audio once, so that what cannot be used is known before the first trial.
fn sound_of(corpus: &Corpus, clip: &Clip, room: &mut usize) -> Result<Sound, String> {
    let path = audio_path(&corpus.folder, clip).ok_or("the clip names no audio")?;
    let source = Sound::decode(&path, clip.side)?;
    match room.checked_sub(source.audio.samples.len()) {
        Some(left) => {
            *room = left;
            Ok(Sound::Held(source))
        }
        None => Ok(Sound::OnDisk(path, clip.side)),
    }
}

type Engines = HashMap<String, Box<dyn Engine>>;

fn engines(bench: &Bench, plan: &Plan, scratch: &std::path::Path, labels: &Arc<HashMap<String, Clip>>) -> Engines {
    let names: std::collections::BTreeSet<&String> = plan.variants.iter().map(|variant| &variant.engine).collect();
    names
        .into_iter()
        .map(|name| {
            let config = &bench.engines[name];
            (name.clone(), build_engine(config, &bench.folder, scratch.to_owned(), labels, bench.seed))
        })
        .collect()
}

fn stored_variants(bench: &Bench, plan: &Plan, engines: &Engines) -> Vec<Variant> {
    let versions: HashMap<&str, Option<String>> =
        engines.iter().map(|(name, engine)| (name.as_str(), engine.version())).collect();
    plan.variants
        .iter()
        .map(|variant| Variant {
            name: variant.name.clone(),
            engine: variant.engine.clone(),
            task: variant.task.as_str().to_owned(),
            transport: bench.engines[&variant.engine].transport.as_str().to_owned(),
            model: variant.model.clone(),
            voice: variant.voice.clone(),
            settings: variant.settings.clone(),
            engine_version: versions[variant.engine.as_str()].clone(),
        })
        .collect()
}

/// What makes two executions the same run: plan, engines as configured, text profile, seed and corpus.
fn fingerprint(bench: &Bench, plan: &Plan, corpus: &Corpus) -> String {
    let engines: Vec<&EngineConfig> = plan.variants.iter().map(|variant| &bench.engines[&variant.engine]).collect();
    let all = serde_json::json!([plan, engines, bench.text_profile, bench.seed, corpus.checksum]);
    checksum::of_bytes(all.to_string().as_bytes())
}

fn new_run(
    bench: &Bench,
    plan: &Plan,
    label: Option<&str>,
    fingerprint: String,
    corpus: &Corpus,
    material: &Material,
    variants: Vec<Variant>,
) -> NewRun {
    NewRun {
        label: label.map(str::to_owned),
        plan: plan.name.clone(),
        started_at: machine::now(),
        seed: bench.seed,
        fingerprint,
        fonex_version: env!("CARGO_PKG_VERSION").to_owned(),
        text_profile: bench.text_profile.clone(),
        corpus_path: plan.corpus.clone().or_else(|| bench.corpus.clone()).unwrap_or_default(),
        corpus_checksum: corpus.checksum.clone(),
        bench_checksum: bench.checksum.clone(),
        overrides: bench.overrides.clone(),
        machine: machine::this_machine(),
        planned: (plan.variants.len() * material.usable.len()) as u64 * u64::from(plan.repeats),
        variants,
        clips: corpus.clips.clone(),
        left_out: material.left_out.clone(),
    }
}

/// Every trial in the order of execution: warm-up first, then repeat by repeat, the variants taking turns clip by clip
/// so that a slow minute of the machine hits them alike.
fn trial_keys<'m>(plan: &'m Plan, material: &'m Material) -> impl Iterator<Item = TrialKey> + 'm {
    let variants = 0..plan.variants.len();
    let key = |variant, clip: &Heardable, repeat, warm_up| TrialKey {
        variant,
        clip_id: clip.clip.id.clone(),
        repeat,
        warm_up,
    };
    let warm = variants.clone().flat_map(move |variant| {
        let clips = material.usable.iter().cycle();
        (0..plan.warm_up).zip(clips).map(move |(repeat, clip)| key(variant, clip, repeat, true))
    });
    let timed = (0..plan.repeats).flat_map(move |repeat| {
        let variants = variants.clone();
        material
            .usable
            .iter()
            .flat_map(move |clip| variants.clone().map(move |variant| key(variant, clip, repeat, false)))
    });
    warm.chain(timed)
}

/// Runs trials on as many workers as the plan allows; gives why it was stopped, if it was.
#[expect(clippy::too_many_arguments, reason = "the one place where everything about a run comes together")]
fn run_trials(
    plan: &Plan,
    material: &Material,
    engines: &Engines,
    todo: &[TrialKey],
    run: i64,
    store: &Store,
    stop: &StopFlag,
    ended: &dyn Fn(&TrialRecord),
) -> Result<Option<String>, Failure> {
    let clips: HashMap<&str, &Heardable> = material.usable.iter().map(|h| (h.clip.id.as_str(), h)).collect();
    let (files, run_started) = (store.audio_files(), Instant::now());
    let next = AtomicUsize::new(0);
    // The timed trials begin once every warm-up trial has ended.
    let warm_ups = todo.iter().filter(|key| key.warm_up).count();
    let mut failure: Option<Failure> = None;
    let mut stopped: Option<String> = None;
    for stage in [0..warm_ups, warm_ups..todo.len()] {
        next.store(stage.start, Ordering::Relaxed);
        let (sender, records) = sync_channel::<TrialRecord>(64);
        thread::scope(|scope| {
            for _ in 0..plan.at_once {
                let (sender, clips, next, files, stage) = (sender.clone(), &clips, &next, &files, stage.clone());
                scope.spawn(move || {
                    while !stop.is_set() {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        let Some(key) = todo.get(at).filter(|_| stage.contains(&at)) else { break };
                        let variant = &plan.variants[key.variant];
                        let engine = engines[&variant.engine].as_ref();
                        let clip = clips[key.clip_id.as_str()];
                        let trial = Trial { key: key.clone(), engine, variant, clip, stop, files, run_started };
                        if sender.send(trial.run()).is_err() {
                            break;
                        }
                    }
                });
            }
            drop(sender);
            for record in records {
                // A trial that was stopped from our side has no outcome of its own and is done anew on resuming.
                if record.outcome == Outcome::Stopped {
                    stop.set();
                    stopped = stopped.take().or(record.detail);
                } else if failure.is_none() {
                    match store.save_trial(run, &record) {
                        Ok(_) => ended(&record),
                        Err(error) => {
                            stop.set();
                            failure = Some(error.into());
                        }
                    }
                }
            }
        });
    }
    match failure {
        Some(failure) => Err(failure),
        None if stop.is_set() => Ok(Some(stopped.unwrap_or_else(|| "stopped between two trials".to_owned()))),
        None => Ok(None),
    }
}
