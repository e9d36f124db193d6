//! A store with runs whose trials are given word by word.

use fonex_analysis::{RunView, VariantView, Wanted};
use fonex_core::measures::{Estimate, Measure, find};
use fonex_core::text::TextProfile;
use fonex_core::{Clip, Heard, Outcome, Task};
use fonex_store::{Machine, NewRun, Run, RunRef, Store, TrialKey, TrialRecord, Variant};

pub struct World {
    folder: tempfile::TempDir,
    pub store: Store,
}

/// A run to be stored: what is usual, to be changed by the test.
pub struct Script {
    pub label: String,
    pub profile: &'static str,
    pub corpus: &'static str,
    pub cores: usize,
    pub version: &'static str,
    pub finished: bool,
    pub clips: Vec<Clip>,
    pub variants: Vec<Variant>,
    pub trials: Vec<TrialRecord>,
}

impl World {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        Self { folder, store }
    }

    /// The same store, opened anew.
    pub fn reopened(self) -> Self {
        let Self { folder, store } = self;
        drop(store);
        let store = Store::open(folder.path()).unwrap();
        Self { folder, store }
    }

    pub fn add(&mut self, script: Script) -> Run {
        let run = NewRun {
            commit: None,
            label: Some(script.label),
            plan: "plan".into(),
            started_at: "2026-01-02T03:04:05Z".into(),
            seed: 7,
            fingerprint: "f".into(),
            fonex_version: script.version.into(),
            text_profile: TextProfile::shipped(script.profile).unwrap(),
            corpus_path: "corpus.jsonl".into(),
            corpus_checksum: script.corpus.into(),
            bench_checksum: "b".into(),
            overrides: Vec::new(),
            machine: Machine {
                cpu: "cpu".into(),
                cores: script.cores,
                memory_mib: 100,
                os: "os".into(),
                load_1m: None,
                during: None,
            },
            planned: script.trials.len() as u64,
            variants: script.variants,
            clips: script.clips,
            left_out: Vec::new(),
            notes: Vec::new(),
        };
        let id = self.store.create_run(&run).unwrap();
        for trial in &script.trials {
            assert!(self.store.save_trial(id, trial).unwrap());
        }
        if script.finished {
            self.store.finish_run(id, "2026-01-02T03:05:00Z").unwrap();
        }
        self.run(id)
    }

    pub fn run(&self, id: i64) -> Run {
        self.store.run(&RunRef::Number(id)).unwrap().unwrap()
    }

    pub fn view(&mut self, run: &Run) -> RunView {
        self.view_under(run, None)
    }

    pub fn view_under(&mut self, run: &Run, profile: Option<&TextProfile>) -> RunView {
        let wanted = Wanted { slices: true, ..Wanted::default() };
        RunView::load(&mut self.store, run.clone(), profile, &wanted).unwrap()
    }
}

impl Script {
    pub fn new(label: &str, clips: Vec<Clip>) -> Self {
        Self {
            label: label.to_owned(),
            profile: "neutral",
            corpus: "c",
            cores: 2,
            version: "0.1.0",
            finished: true,
            clips,
            variants: vec![variant("marl", Task::Hear)],
            trials: Vec::new(),
        }
    }

    /// Every clip heard once by the variant at a place, as the closure says.
    pub fn heard(mut self, variant: usize, hears: impl Fn(usize, &Clip) -> String) -> Self {
        let trials = self.clips.iter().enumerate().map(|(at, clip)| trial(variant, &clip.id, 0, &hears(at, clip)));
        self.trials.extend(trials.collect::<Vec<_>>());
        self
    }
}

pub fn variant(name: &str, task: Task) -> Variant {
    Variant {
        name: name.into(),
        engine: name.into(),
        task,
        transport: "recorded".into(),
        model: String::new(),
        voice: String::new(),
        settings: std::collections::BTreeMap::default(),
        engine_version: None,
        delivery: fonex_core::Delivery::Whole,
        languages: Vec::new(),
        prices: None,
        hears: None,
    }
}

pub fn clip(id: &str, text: &str) -> Clip {
    Clip { id: id.into(), text: text.into(), ..Clip::default() }
}

/// Clips of ten different words each.
pub fn ten_words(count: usize) -> Vec<Clip> {
    let words = "hold at pylon six until the wind drops again".split(' ').collect::<Vec<_>>().join(" ");
    (0..count).map(|at| clip(&format!("c-{at:03}"), &format!("{words} now"))).collect()
}

/// The text with its first words replaced.
pub fn wrong(text: &str, words: usize) -> String {
    text.split(' ').enumerate().map(|(at, word)| if at < words { "x" } else { word }).collect::<Vec<_>>().join(" ")
}

pub fn trial(variant: usize, clip_id: &str, repeat: u32, text: &str) -> TrialRecord {
    TrialRecord {
        key: TrialKey { variant, clip_id: clip_id.into(), repeat, warm_up: false },
        outcome: if text.is_empty() { Outcome::Nothing } else { Outcome::Done },
        detail: None,
        started_ms: 0.0,
        took_ms: Some(20.0),
        audio_s: Some(2.0),
        cpu_s: None,
        peak_memory_kib: None,
        heard: Some(Heard { text: text.into(), ..Heard::default() }),
        audio_file: None,
        measures: None,
        speech: None,
        prepared: None,
        replied: None,
        first_ms: None,
        traffic: fonex_core::latency::Traffic::default(),
        used: None,
        made_by: None,
    }
}

pub fn failed(variant: usize, clip_id: &str, repeat: u32, why: &str) -> TrialRecord {
    TrialRecord {
        outcome: Outcome::Broken,
        detail: Some(why.into()),
        heard: None,
        took_ms: None,
        ..trial(variant, clip_id, repeat, "x")
    }
}

pub fn measure(id: &str) -> &'static Measure {
    find(id).unwrap()
}

pub fn figure(view: &VariantView, id: &str) -> Estimate {
    *view.measures.get(id).unwrap_or_else(|| panic!("there is no {id}"))
}
