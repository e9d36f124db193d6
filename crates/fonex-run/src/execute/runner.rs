//! The run: what is to be done, what is left of it, and what it would cost.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use fonex_core::cost::{Prices, Usage};
use fonex_core::text::Label;
use fonex_core::{Clip, Delivery};
use fonex_engines::{Engine, SharedPace, Surroundings, Task, build_engine, lists_language};
use fonex_formats::{Corpus, Problem, checksum};
use fonex_store::{LeftOut, NewRun, Store, TrialRecord, Variant};
use serde::Serialize;

use super::busy::while_watching;
use super::claim::{Claimed, Which};
use super::commit::commit_around;
use super::crew::Crew;
use super::interrupt::Interrupt;
use super::machine;
use super::material::Material;
use super::order::left_to_do;
use super::trial::Heardable;
use crate::RunError;
use crate::bench::{Bench, Plan, PlannedVariant};

/// Follows a run as it goes; called from several threads.
pub trait Progress: Sync {
    /// The run begins, with this many trials in all and this many of them done before.
    fn begun(&self, run: i64, trials: u64, done: u64);
    /// A trial has been stored.
    fn trial(&self, record: &TrialRecord);
    /// A variant is stopped: its further trials are not begun.
    fn halted(&self, variant: &str, why: &str);
    /// No more trials come.
    fn ended(&self);
}

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
#[derive(Debug, Serialize, schemars::JsonSchema)]
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
    /// Seconds that the trials take one after another: live, the length of the audio; else by the median latency of an earlier
    /// run. Omitted if there was none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected_s: Option<f64>,
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
) -> Result<Vec<Forecast>, RunError> {
    let corpus = bench.read_corpus(Some(plan))?;
    let material = Material::load(&corpus, bench, plan)?;
    let unfinished = match store {
        Some(store) => store.unfinished(&fingerprint(bench, plan, &corpus), label)?.map(|run| store.done(run)),
        None => None,
    };
    let done = unfinished.transpose()?.unwrap_or_default();
    let prices: Vec<Option<Prices>> = plan.variants.iter().map(|variant| bench.prices(variant)).collect();
    let mut sums: Vec<(u64, u64, Usage)> = vec![(0, 0, Usage::default()); plan.variants.len()];
    let clips: HashMap<&str, &Heardable> = material.usable.iter().map(|h| (h.clip.id.as_str(), h)).collect();
    for key in left_to_do(plan, &material, &done).into_iter().flatten() {
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
            expected_s: matches!(variant.delivery, Delivery::Live(_)).then_some(used.audio_s),
        });
    Ok(forecast.collect())
}

/// About how many characters a voice speaks in a second, to tell beforehand how much audio there will be to hear.
const CHARACTERS_PER_S: f64 = 14.0;

/// What a trial is expected to use when nothing has to be tried again.
pub(crate) fn expected(variant: &PlannedVariant, clip: &Heardable, prices: Option<&Prices>) -> Usage {
    let text = || Label::parse(&clip.clip.text).map(|label| label.first_reading()).unwrap_or_default();
    if variant.hears.is_some() {
        return Usage::of_request(0, text().chars().count() as f64 / CHARACTERS_PER_S, prices);
    }
    if variant.task != Task::Hear {
        let characters = text().chars().count() as u64;
        return if characters == 0 { Usage::default() } else { Usage::of_request(characters, 0.0, None) };
    }
    let pieces = clip.sound.source().map_or(1, |source| variant.delivery.pieces(&source.audio)) as u64;
    let audio_s = clip.sound.held_s().or_else(|| clip.sound.source().ok().map(|s| s.audio.duration_s()));
    let one = Usage::of_request(0, audio_s.unwrap_or_default() / pieces as f64, prices);
    Usage { requests: pieces, audio_s: one.audio_s * pieces as f64, ..one }
}

/// Executes a plan: a new run of it, or what is left of one.
///
/// # Errors
/// When the corpus cannot be read or the store cannot be written. Failing engines are no error: they are outcomes.
pub fn execute(
    bench: &Bench,
    plan: &Plan,
    which: Which<'_>,
    store: &mut Store,
    interrupt: &Interrupt,
    watch: &dyn Progress,
) -> Result<Execution, RunError> {
    let corpus = bench.read_corpus(Some(plan))?;
    let material = Material::load(&corpus, bench, plan)?;
    let fingerprint = fingerprint(bench, plan, &corpus);
    let labels: Arc<HashMap<String, Clip>> =
        Arc::new(material.usable.iter().map(|h| (h.clip.id.clone(), h.clip.clone())).collect());
    let claimed = Claimed::take(store, &fingerprint, plan, which, || {
        // What cannot work is told before there is a run. Nothing is started by this.
        engines(bench, plan, &std::env::temp_dir(), &labels, None)?;
        Ok(new_run(bench, plan, which.label(), fingerprint.clone(), &corpus, &material))
    })?;
    let (run, done) = (claimed.run, &claimed.done);
    let scratch = store.scratch(run, &claimed.lock)?;
    let engines = engines(bench, plan, &scratch, &labels, None)?;
    if claimed.is_new {
        store.set_versions(run, &versions(plan, &engines))?;
    }
    let todo = left_to_do(plan, &material, done);
    let left: usize = todo.iter().map(Vec::len).sum();
    watch.begun(run, (left + done.len()) as u64, done.len() as u64);

    let _heeding = interrupt.heed();
    let spoken = store.spoken(run, plan.variants.iter().filter_map(|variant| variant.hears))?;
    let crew = Crew::new(bench, plan, &material, &engines, spoken, interrupt.flag(), watch);
    for (variant, used) in store.used(run)? {
        crew.spending.add(crew.accounts[variant], used);
    }
    let (stopped, busy) = while_watching(|| crew.run_trials(&todo, run, store));
    let stopped = stopped?;
    if let Some(busy) = busy {
        store.set_busy(run, busy)?;
    }
    watch.ended();
    let not_begun = crew.not_begun();
    drop(crew);
    claimed.end(store, stopped, not_begun, material.left_out)
}

pub(crate) type Engines = HashMap<String, Box<dyn Engine>>;

pub(crate) fn engines(
    bench: &Bench,
    plan: &Plan,
    scratch: &std::path::Path,
    labels: &Arc<HashMap<String, Clip>>,
    pace: Option<Arc<dyn SharedPace>>,
) -> Result<Engines, Problem> {
    let names: BTreeSet<&String> = plan.variants.iter().map(|variant| &variant.engine).collect();
    let around = Surroundings { pace, ..bench.surroundings(scratch.to_owned(), Arc::clone(labels))? };
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
            task: variant.task,
            transport: bench.engines[&variant.engine].transport.as_str().to_owned(),
            model: variant.model.clone(),
            voice: variant.voice.clone(),
            settings: variant.settings.clone(),
            engine_version: None,
            delivery: variant.delivery,
            languages: languages(bench, variant).to_vec(),
            prices: bench.prices(variant),
            hears: variant.hears,
        })
        .collect()
}

/// What makes two executions the same run: what is run with which engines, text profile, seed and corpus. Limits,
/// prices and budgets may change before a run is taken up again.
fn fingerprint(bench: &Bench, plan: &Plan, corpus: &Corpus) -> String {
    checksum::of_bytes(print_of(bench, plan, &corpus.checksum).as_bytes())
}

/// What a fingerprint is made of.
pub(crate) fn print_of(bench: &Bench, plan: &Plan, corpus_checksum: &str) -> String {
    let without = |value: serde_json::Result<serde_json::Value>, keys: &[&str]| {
        // Two plans must not get one fingerprint because neither could be written.
        let mut value = value.expect("what a bench file holds can be written as JSON");
        if let Some(fields) = value.as_object_mut() {
            fields.retain(|key, _| !keys.contains(&key.as_str()));
        }
        value
    };
    // An engine is written out once, however many variants it has.
    let mut written: BTreeMap<&str, serde_json::Value> = BTreeMap::new();
    let engine = |variant: &PlannedVariant| {
        without(serde_json::to_value(&bench.engines[&variant.engine]), &["limits", "retry", "prices", "voices"])
    };
    for variant in &plan.variants {
        written.entry(&variant.engine).or_insert_with(|| engine(variant));
    }
    let engines: Vec<&serde_json::Value> =
        plan.variants.iter().map(|variant| &written[variant.engine.as_str()]).collect();
    let plan = without(serde_json::to_value(plan), &["concurrency", "allow_failed", "budget", "stop_after_refusals"]);
    serde_json::json!([plan, engines, bench.text_profile, bench.seed, corpus_checksum]).to_string()
}

pub(crate) fn new_run(
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
        commit: bench.commit.clone().or_else(|| commit_around(&bench.folder)),
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
        notes: Vec::new(),
    }
}
