//! Plans executed on stand-ins that take no time.

use std::sync::atomic::{AtomicU64, Ordering};

use fonex_core::audio::Audio;
use fonex_formats::audio::encode_wav;
use fonex_run::{Bench, Execution, Interrupt, Progress, StoreChoice, Which, execute, forecast};
use fonex_store::{RunRef, RunState, TrialRecord};

use crate::Folder;

const ENGINES: &str = "corpus = \"corpus.jsonl\"\n\
    [engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\nmodels = [\"brook\", \"river\"]\n\
    behaviour.default = { start_ms = 0, rtf = 0.0 }\n\
    prices = { currency = \"EUR\", request = 0.5, audio_minute = 6.0 }\n\
    [engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\nvoices = [\"Ilka\"]\nbehaviour.default = { start_ms = 0, rtf = 0.0 }\n";

/// Six clips of two seconds.
fn folder() -> Folder {
    let folder = Folder::default();
    let sample = |i: u32| if i % 8_000 < 5_000 { (f64::from(i) * 0.07).sin() as f32 * 0.3 } else { 0.0 };
    let audio = Audio { rate_hz: 16_000, samples: (0..32_000).map(sample).collect() };
    std::fs::write(folder.0.path().join("any.wav"), encode_wav(&audio).unwrap()).unwrap();
    let lines: String = (0..6)
        .map(|at| format!("{{\"id\":\"c{at}\",\"audio\":\"any.wav\",\"text\":\"hold at pylon {at}\"}}\n"))
        .collect();
    folder.write("corpus.jsonl", &lines);
    folder
}

/// Counts what it is told.
#[derive(Default)]
struct Counting {
    planned: AtomicU64,
    done_before: AtomicU64,
    trials: AtomicU64,
    ended: AtomicU64,
}

impl Progress for Counting {
    fn begun(&self, _: i64, trials: u64, done: u64) {
        self.planned.store(trials, Ordering::SeqCst);
        self.done_before.store(done, Ordering::SeqCst);
    }

    fn trial(&self, _: &TrialRecord) {
        self.trials.fetch_add(1, Ordering::SeqCst);
    }

    fn halted(&self, _: &str, _: &str) {}

    fn ended(&self) {
        self.ended.fetch_add(1, Ordering::SeqCst);
    }
}

impl Counting {
    /// Planned, done before, done now.
    fn counts(&self) -> [u64; 3] {
        assert_eq!(self.ended.load(Ordering::SeqCst), 1);
        [&self.planned, &self.done_before, &self.trials].map(|count| count.load(Ordering::SeqCst))
    }
}

fn bench(folder: &Folder, plan: &str) -> Bench {
    let toml = format!("{ENGINES}[plan.p]\n{plan}\n");
    folder.bench(&toml, &[]).unwrap_or_else(|problems| panic!("{problems:?}"))
}

fn executed(bench: &Bench, which: Which<'_>) -> (Execution, [u64; 3]) {
    let mut store = StoreChoice::beside(&bench.path).open().ok().unwrap();
    let watch = Counting::default();
    let plan = bench.plan(Some("p")).unwrap();
    let done = execute(bench, plan, which, &mut store, &Interrupt::listen(), &watch);
    (done.unwrap_or_else(|error| panic!("{error:?}")), watch.counts())
}

#[test]
fn every_trial_is_there_once_with_its_warm_up_apart() {
    let folder = folder();
    let bench = bench(&folder, "engines = [\"marl\", \"osier\"]\nrepeats = 3\nwarm_up = 2\nconcurrency = 2");
    let (done, counts) = executed(&bench, Which::Resumed(Some("first")));
    // Three variants, six clips, three repeats; two warm-up trials of each variant.
    assert_eq!(counts, [60, 0, 60]);
    assert_eq!((done.resumed_with, done.failed, done.stopped), (0, 0, None));
    let store = StoreChoice::beside(&bench.path).open().ok().unwrap();
    let run = store.run(&RunRef::Label("first".into())).unwrap().unwrap();
    assert_eq!((run.state, run.variants.len(), run.planned), (RunState::Finished, 3, 54));
    let trials = store.trials(run.id).unwrap();
    assert_eq!(trials.iter().filter(|trial| trial.key.warm_up).count(), 6);
    let keys: std::collections::BTreeSet<_> =
        trials.iter().map(|t| (t.key.variant, t.key.clip_id.clone(), t.key.repeat, t.key.warm_up)).collect();
    assert_eq!(keys.len(), 60);
    assert!(trials.iter().filter(|trial| trial.key.variant == 2).all(|trial| trial.audio_file.is_some()));
    // A finished run is not taken up again, nor doubled under its label.
    let mut store = StoreChoice::beside(&bench.path).open().ok().unwrap();
    let plan = bench.plan(Some("p")).unwrap();
    let watch = Counting::default();
    let taken = execute(&bench, plan, Which::Resumed(Some("first")), &mut store, &Interrupt::listen(), &watch);
    assert!(format!("{:?}", taken.unwrap_err()).contains("has the label"));
    let (again, counts) = executed(&bench, Which::Anew(Some("first")));
    assert_ne!(again.run, done.run);
    assert_eq!(counts, [60, 0, 60]);
}

#[test]
fn a_budget_leaves_the_run_unfinished_and_a_larger_one_ends_it() {
    let folder = folder();
    let plan = |budget: &str| format!("engines = [\"marl\"]\nrepeats = 2\n{budget}");
    // A request is half a euro and two seconds of audio are twenty cents.
    let (done, counts) = executed(&bench(&folder, &plan("budget = { cost = 7.0 }")), Which::Resumed(None));
    assert_eq!((counts[0], counts[2]), (24, 10), "{:?}", done.not_begun);
    assert!(done.not_begun.iter().any(|why| why.contains("a cost of 7")), "{:?}", done.not_begun);
    let (later, counts) = executed(&bench(&folder, &plan("budget = { requests = 15 }")), Which::Resumed(None));
    assert_eq!((later.run, later.resumed_with, counts), (done.run, 10, [24, 10, 5]));
    let (end, counts) = executed(&bench(&folder, &plan("")), Which::Resumed(None));
    assert_eq!((end.run, counts), (done.run, [24, 15, 9]));
    let store = StoreChoice::beside(&bench(&folder, &plan("")).path).open().ok().unwrap();
    assert_eq!(store.run(&RunRef::Number(done.run)).unwrap().unwrap().state, RunState::Finished);
}

#[test]
fn another_plan_another_seed_or_another_label_is_another_run() {
    let folder = folder();
    let short = "engines = [\"marl\"]\nbudget = { requests = 3 }";
    let (first, _) = executed(&bench(&folder, short), Which::Resumed(None));
    let resumed = |toml: &str, which: Which<'_>| executed(&bench(&folder, toml), which).0.run == first.run;
    assert!(resumed(short, Which::Resumed(None)), "the same");
    assert!(!resumed(short, Which::Resumed(Some("other"))));
    assert!(!resumed(short, Which::Anew(None)));
    assert!(!resumed("engines = [\"marl\"]\nmodels = [\"brook\"]\nbudget = { requests = 3 }", Which::Resumed(None)));
    let (changed, _) = executed(
        &bench(&folder, "engines = [\"marl\"]\nrepeats = 2\nbudget = { requests = 3 }"),
        Which::Resumed(None),
    );
    assert_ne!(changed.run, first.run);
    // Other clips are another corpus.
    folder.write("corpus.jsonl", "{\"id\":\"c0\",\"audio\":\"any.wav\",\"text\":\"hold\"}\n");
    assert!(!resumed(short, Which::Resumed(None)));
}

#[test]
fn the_forecast_is_what_is_used() {
    let folder = folder();
    let bench = bench(&folder, "engines = [\"marl\", \"osier\"]\nrepeats = 2");
    let plan = bench.plan(Some("p")).unwrap();
    let expected = forecast(&bench, plan, None, None).unwrap_or_else(|error| panic!("{error:?}"));
    let (done, _) = executed(&bench, Which::Resumed(None));
    let store = StoreChoice::beside(&bench.path).open().ok().unwrap();
    let mut used = [fonex_core::cost::Usage::default(); 3];
    for (variant, usage) in store.used(done.run).unwrap() {
        used[variant] = used[variant].plus(usage);
    }
    for (at, forecast) in expected.iter().enumerate() {
        assert_eq!(forecast.trials, 12);
        let (told, real) = (forecast.used, used[at]);
        assert_eq!((told.requests, told.characters), (real.requests, real.characters), "{}", forecast.variant);
        // How long a text will be when it is spoken is not known.
        let heard_s = if at < 2 { 24.0 } else { 0.0 };
        assert_eq!(told.audio_s, heard_s);
        assert!(at == 2 || real.audio_s == heard_s, "{}", forecast.variant);
    }
    // Twelve requests and twelve times two seconds, for each of the two models.
    let cost = expected[0].cost.unwrap();
    assert!((cost - (12.0 * 0.5 + 12.0 * 2.0 / 60.0 * 6.0)).abs() < 1e-9, "{cost}");
    assert_eq!(expected[2].cost, None, "no prices");
    // What an unfinished run has done is not sent again.
    let again = forecast(&bench, plan, None, Some(&store)).unwrap_or_else(|error| panic!("{error:?}"));
    assert_eq!(again[0].trials, 12, "a finished run is not gone on with");
}

#[test]
fn clips_that_cannot_be_heard_are_left_out_and_told() {
    let folder = folder();
    folder.write(
        "corpus.jsonl",
        "{\"id\":\"good\",\"audio\":\"any.wav\",\"text\":\"hold\"}\n{\"id\":\"bare\",\"text\":\"hold\"}\n\
         {\"id\":\"gone\",\"audio\":\"gone.wav\",\"text\":\"hold\"}\n",
    );
    let (done, counts) = executed(&bench(&folder, "engines = [\"marl\"]"), Which::Resumed(None));
    assert_eq!(counts, [2, 0, 2]);
    let told: Vec<(&str, bool)> =
        done.left_out.iter().map(|out| (out.clip_id.as_str(), out.reason.contains("names no audio"))).collect();
    assert_eq!(told, [("bare", true), ("gone", false)]);
    // Who only speaks needs none.
    let (done, counts) = executed(&bench(&folder, "engines = [\"osier\"]"), Which::Resumed(None));
    assert_eq!((done.left_out.len(), counts), (0, [3, 0, 3]));
}

#[test]
fn recorded_results_need_no_audio_and_take_its_length_where_there_is_some() {
    let folder = folder();
    folder.write(
        "corpus.jsonl",
        "{\"id\":\"a\",\"audio\":\"any.wav\",\"text\":\"hold\"}\n{\"id\":\"b\",\"text\":\"hold\"}\n",
    );
    folder.write("old.jsonl", "{\"id\":\"a\",\"text\":\"hold\"}\n{\"id\":\"b\",\"text\":\"held\"}\n");
    let toml = format!(
        "{ENGINES}[engine.old]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"old.jsonl\"\n\
         [plan.p]\nengines = [\"old\"]\n[plan.both]\nengines = [\"old\", \"marl\"]\n"
    );
    let bench = folder.bench(&toml, &[]).unwrap_or_else(|problems| panic!("{problems:?}"));
    let (done, counts) = executed(&bench, Which::Resumed(None));
    assert_eq!((counts, done.left_out.len()), ([2, 0, 2], 0));
    let store = StoreChoice::beside(&bench.path).open().ok().unwrap();
    let lengths: Vec<Option<f64>> = store.trials(done.run).unwrap().iter().map(|trial| trial.audio_s).collect();
    assert_eq!(lengths, [Some(2.0), None]);
    // One who listens needs it.
    let told = forecast(&bench, bench.plan(Some("both")).unwrap(), None, None).unwrap_or_else(|e| panic!("{e:?}"));
    assert!(told.iter().all(|variant| variant.trials == 1), "{told:?}");
}
