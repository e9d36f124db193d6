//! The run: what is to be done, by how many workers, and one writer that stores each trial as it ends.

use std::collections::{BTreeSet, HashMap};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::sync::{Arc, Condvar, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::cost::{Prices, Usage};
use fonex_core::text::Label;
use fonex_core::{Clip, Outcome};
use fonex_engines::{Delivery, Engine, StopFlag, Task, build_engine, lists_language};
use fonex_formats::{Corpus, Place, Problem, audio_path, checksum};
use fonex_store::{AudioFiles, LeftOut, NewRun, Store, TrialKey, TrialRecord, Variant};
use serde::Serialize;

use super::budget::Purse;
use super::trial::{Ended, Heardable, Sound, Trial};
use super::{machine, progress};
use crate::bench::{Bench, Plan, PlannedVariant};
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
    /// Why trials were not begun: a variant's quota, or the budget. The run stays unfinished.
    pub not_begun: Vec<String>,
}

/// What a plan would send, variant by variant.
#[derive(Debug, Serialize)]
pub struct Forecast {
    /// The variant.
    pub variant: String,
    /// Trials not done yet.
    pub trials: u64,
    /// What they are expected to use.
    pub used: Usage,
    /// What that costs, where the engine has prices.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<f64>,
    /// Currency of the cost.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
    /// Trials in a language that the voice does not list.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_language: Option<u64>,
}

/// What executing a plan would send, without sending it. Trials that an unfinished run of it in `store` has done already
/// are not sent again.
///
/// # Errors
/// When the corpus or the store cannot be read.
pub fn forecast(
    bench: &Bench,
    plan: &Plan,
    label: Option<&str>,
    store: Option<&Store>,
) -> Result<Vec<Forecast>, Failure> {
    let corpus = bench.read_corpus(Some(plan))?;
    let material = Material::load(&corpus, plan)?;
    let unfinished = match store {
        Some(store) => store.unfinished(&fingerprint(bench, plan, &corpus), label)?.map(|run| store.done(run)),
        None => None,
    };
    let done = unfinished.transpose()?.unwrap_or_default();
    let prices: Vec<Option<Prices>> = plan.variants.iter().map(|variant| bench.prices(variant)).collect();
    let mut sums: Vec<(u64, u64, Usage)> = vec![(0, 0, Usage::default()); plan.variants.len()];
    let clips: HashMap<&str, &Heardable> = material.usable.iter().map(|h| (h.clip.id.as_str(), h)).collect();
    for key in trial_keys(plan, &material).filter(|key| !done.contains(key)) {
        let (variant, clip) = (&plan.variants[key.variant], clips[key.clip_id.as_str()]);
        let (trials, foreign, used) = &mut sums[key.variant];
        let own = |lang: &String| lists_language(languages(bench, variant), lang);
        *trials += 1;
        *foreign += u64::from(!clip.clip.lang.as_ref().is_none_or(own));
        *used = used.plus(expected(variant, clip, prices[key.variant].as_ref()));
    }
    // The variants of one engine at the same prices share its tiers.
    let cost = |at: usize| {
        let own = prices[at].as_ref()?;
        let together = |i: &usize| plan.variants[*i].engine == plan.variants[at].engine && prices[*i] == prices[at];
        let together: Vec<usize> = (0..sums.len()).filter(together).collect();
        let shares = own.shares(&together.iter().map(|i| sums[*i].2).collect::<Vec<_>>());
        together.iter().zip(shares).find(|(i, _)| **i == at).map(|(_, share)| share)
    };
    let forecast =
        plan.variants.iter().zip(&sums).enumerate().map(|(at, (variant, (trials, foreign, used)))| Forecast {
            variant: variant.name.clone(),
            trials: *trials,
            used: *used,
            cost: cost(at),
            currency: prices[at].as_ref().map(|prices| prices.currency.clone()),
            other_language: (*foreign > 0).then_some(*foreign),
        });
    Ok(forecast.collect())
}

/// What a trial is expected to use when nothing has to be tried again.
fn expected(variant: &PlannedVariant, clip: &Heardable, prices: Option<&Prices>) -> Usage {
    if variant.task != Task::Hear {
        let text = Label::parse(&clip.clip.text).map(|label| label.first_reading()).unwrap_or_default();
        let characters = text.chars().count() as u64;
        return if characters == 0 { Usage::default() } else { Usage::of_request(characters, 0.0, None) };
    }
    let pieces = clip.sound.source().map_or(1, |source| variant.delivery.pieces(&source.audio)) as u64;
    let audio_s = clip.sound.held_s().or_else(|| clip.sound.source().ok().map(|s| s.audio.duration_s()));
    let one = Usage::of_request(0, audio_s.unwrap_or_default() / pieces as f64, prices);
    Usage { requests: pieces, audio_s: one.audio_s * pieces as f64, ..one }
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
            // What cannot work is told before there is a run. Nothing is started by this.
            engines(bench, plan, &std::env::temp_dir(), &labels)?;
            store.create_run(&new_run(bench, plan, label, fingerprint, &corpus, &material))?
        }
    };
    let lock = store.lock(run)?;
    let scratch = store.scratch(run)?;
    let engines = engines(bench, plan, &scratch, &labels)?;
    if unfinished.is_none() {
        store.set_versions(run, &versions(plan, &engines))?;
    }
    let done = store.done(run)?;
    let todo: Vec<TrialKey> = trial_keys(plan, &material).filter(|key| !done.contains(key)).collect();
    let bar = progress::trial_bar((todo.len() + done.len()) as u64, done.len() as u64);
    bar.set_prefix(format!("run {run}"));

    let crew = Crew::new(bench, plan, &material, &engines, stop);
    for (variant, used) in store.used(run)? {
        crew.purse.add(crew.accounts[variant], used);
    }
    let stopped = crew.run_trials(&todo, run, store, &|record| {
        if !record.outcome.is_answer() {
            bar.set_message(format!("(last failure: {} on {})", record.outcome, record.key.clip_id));
        }
        bar.inc(1);
    })?;
    bar.finish_and_clear();
    let not_begun = crew.not_begun();
    if stopped.is_none() && not_begun.is_empty() {
        store.finish_run(run, &machine::now())?;
    }
    store.unlock(run, lock);
    let failed = store.outcomes(run)?.iter().filter(|(outcome, _)| !outcome.is_answer()).map(|(_, n)| n).sum();
    Ok(Execution { run, resumed_with: done.len() as u64, stopped, failed, left_out: material.left_out, not_begun })
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

fn engines(
    bench: &Bench,
    plan: &Plan,
    scratch: &std::path::Path,
    labels: &Arc<HashMap<String, Clip>>,
) -> Result<Engines, Problem> {
    let names: BTreeSet<&String> = plan.variants.iter().map(|variant| &variant.engine).collect();
    let around = bench.surroundings(scratch.to_owned(), Arc::clone(labels))?;
    names.into_iter().map(|name| Ok((name.clone(), build_engine(&bench.engines[name], &around)?))).collect()
}

/// Languages the variant's voice lists; empty where that is not known.
fn languages<'b>(bench: &'b Bench, variant: &PlannedVariant) -> &'b [String] {
    bench.engines[&variant.engine].voices.find(&variant.voice).map_or(&[], |voice| &voice.languages)
}

/// What the engines say their versions are, one entry a variant. A worker is started for it, and stays for the trials.
fn versions(plan: &Plan, engines: &Engines) -> Vec<Option<String>> {
    let versions: HashMap<&str, Option<String>> =
        engines.iter().map(|(name, engine)| (name.as_str(), engine.version())).collect();
    plan.variants.iter().map(|variant| versions[variant.engine.as_str()].clone()).collect()
}

fn stored_variants(bench: &Bench, plan: &Plan) -> Vec<Variant> {
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
            engine_version: None,
            delivery: (variant.delivery != Delivery::Whole).then(|| variant.delivery.to_string()),
            languages: languages(bench, variant).to_vec(),
            prices: bench.prices(variant),
        })
        .collect()
}

/// What makes two executions the same run: what is run with which engines, text profile, seed and corpus. Limits,
/// prices and budgets may change before a run is taken up again.
fn fingerprint(bench: &Bench, plan: &Plan, corpus: &Corpus) -> String {
    let without = |value: serde_json::Result<serde_json::Value>, keys: &[&str]| {
        let mut value = value.unwrap_or_default();
        if let Some(fields) = value.as_object_mut() {
            fields.retain(|key, _| !keys.contains(&key.as_str()));
        }
        value
    };
    let engine = |variant: &PlannedVariant| {
        without(serde_json::to_value(&bench.engines[&variant.engine]), &["limits", "retry", "prices", "voices"])
    };
    let engines: Vec<_> = plan.variants.iter().map(engine).collect();
    let plan = without(serde_json::to_value(plan), &["at_once", "allow_failed", "budget"]);
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
        variants: stored_variants(bench, plan),
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

/// Everything the workers of a run share.
struct Crew<'r> {
    plan: &'r Plan,
    clips: HashMap<&'r str, &'r Heardable>,
    engines: &'r Engines,
    /// Prices of each variant.
    prices: Vec<Option<Prices>>,
    /// The account of each variant: those of one engine at the same prices are charged together.
    accounts: Vec<usize>,
    purse: Purse,
    stop: &'r StopFlag,
    /// Why a variant's remaining trials are not begun.
    halted: Mutex<Vec<Option<String>>>,
    /// Why no trial at all is begun any more.
    spent: Mutex<Option<String>>,
}

impl<'r> Crew<'r> {
    fn new(
        bench: &'r Bench,
        plan: &'r Plan,
        material: &'r Material,
        engines: &'r Engines,
        stop: &'r StopFlag,
    ) -> Self {
        let prices: Vec<Option<Prices>> = plan.variants.iter().map(|variant| bench.prices(variant)).collect();
        let mut known: Vec<(&str, &Option<Prices>)> = Vec::new();
        let accounts = plan.variants.iter().zip(&prices).map(|(variant, prices)| {
            let account = (variant.engine.as_str(), prices);
            known.iter().position(|other| *other == account).unwrap_or_else(|| {
                known.push(account);
                known.len() - 1
            })
        });
        let accounts = accounts.collect();
        let purse = Purse::new(plan.budget, known.into_iter().map(|(_, prices)| prices.clone()).collect());
        Self {
            plan,
            clips: material.usable.iter().map(|h| (h.clip.id.as_str(), h)).collect(),
            engines,
            purse,
            prices,
            accounts,
            stop,
            halted: Mutex::new(vec![None; plan.variants.len()]),
            spent: Mutex::default(),
        }
    }

    fn is_spent(&self) -> bool {
        self.spent.lock().expect("no holder of this lock panics").is_some()
    }

    /// No further trial is begun.
    fn is_over(&self) -> bool {
        self.stop.is_set() || self.is_spent()
    }

    fn not_begun(&self) -> Vec<String> {
        let halted = self.halted.lock().expect("no holder of this lock panics");
        let variants = halted.iter().zip(&self.plan.variants).filter_map(|(why, variant)| {
            Some(format!("the quota of {} is used up ({})", variant.name, why.as_ref()?))
        });
        let spent = self.spent.lock().expect("no holder of this lock panics");
        let budget = spent.iter().map(|what| format!("the next trial would pass the budget of {what}"));
        variants.chain(budget).collect()
    }

    /// Runs one trial; none when it is not begun.
    fn run_trial(&self, key: &TrialKey, files: &AudioFiles, run_started: Instant) -> Option<TrialRecord> {
        if self.halted.lock().expect("no holder of this lock panics")[key.variant].is_some() {
            return None;
        }
        let variant = &self.plan.variants[key.variant];
        let (account, clip) = (self.accounts[key.variant], self.clips[key.clip_id.as_str()]);
        let prices = self.prices[key.variant].as_ref();
        let expected = expected(variant, clip, prices);
        if let Err(what) = self.purse.reserve(account, expected) {
            self.spent.lock().expect("no holder of this lock panics").get_or_insert(what);
            return None;
        }
        let engine = self.engines[&variant.engine].as_ref();
        let trial = Trial { key: key.clone(), engine, variant, clip, stop: self.stop, files, run_started, prices };
        let Ended { record, quota_gone } = trial.run();
        self.purse.settle(account, expected, record.used);
        if quota_gone {
            let why = record.detail.clone().unwrap_or_default();
            self.halted.lock().expect("no holder of this lock panics")[key.variant].get_or_insert(why);
        }
        Some(record)
    }

    /// Runs trials on as many workers as the plan allows; gives why it was stopped, if it was.
    fn run_trials(
        &self,
        todo: &[TrialKey],
        run: i64,
        store: &Store,
        ended: &dyn Fn(&TrialRecord),
    ) -> Result<Option<String>, Failure> {
        let (files, run_started) = (store.audio_files(), Instant::now());
        let next = AtomicUsize::new(0);
        let warm_up = WarmUp::new(todo.iter().filter(|key| key.warm_up).count());
        let mut failure: Option<Failure> = None;
        let mut stopped: Option<String> = None;
        let (sender, records) = sync_channel::<TrialRecord>(64);
        thread::scope(|scope| {
            for _ in 0..self.plan.at_once {
                let (sender, next, files, warm_up) = (sender.clone(), &next, &files, &warm_up);
                scope.spawn(move || {
                    while let Some(key) = todo.get(next.fetch_add(1, Ordering::Relaxed)) {
                        if !key.warm_up {
                            warm_up.wait(&|| self.is_over());
                        }
                        if self.is_over() {
                            break;
                        }
                        let record = self.run_trial(key, files, run_started);
                        if key.warm_up {
                            warm_up.one_ended();
                        }
                        if record.is_some_and(|record| sender.send(record).is_err()) {
                            break;
                        }
                    }
                });
            }
            drop(sender);
            for record in records {
                // A trial that was stopped from our side has no outcome of its own and is done anew on resuming.
                if record.outcome == Outcome::Stopped {
                    self.stop.set();
                    stopped = stopped.take().or(record.detail);
                } else if failure.is_none() {
                    match store.save_trial(run, &record) {
                        Ok(_) => ended(&record),
                        Err(error) => {
                            self.stop.set();
                            failure = Some(error.into());
                        }
                    }
                }
            }
        });
        match failure {
            Some(failure) => Err(failure),
            None if self.stop.is_set() => {
                Ok(Some(stopped.unwrap_or_else(|| "stopped between two trials".to_owned())))
            }
            None => Ok(None),
        }
    }
}

/// The timed trials begin once every warm-up trial has ended, on the same threads: their connections are warm too.
struct WarmUp {
    left: Mutex<usize>,
    changed: Condvar,
}

impl WarmUp {
    fn new(trials: usize) -> Self {
        Self { left: Mutex::new(trials), changed: Condvar::new() }
    }

    fn one_ended(&self) {
        *self.left.lock().expect("no holder of this lock panics") -= 1;
        self.changed.notify_all();
    }

    fn wait(&self, over: &dyn Fn() -> bool) {
        const STEP: Duration = Duration::from_millis(25);
        let mut left = self.left.lock().expect("no holder of this lock panics");
        while *left > 0 && !over() {
            left = self.changed.wait_timeout(left, STEP).expect("no holder of this lock panics").0;
        }
    }
}
