//! A store of one run of random words: two variants, each of which heard every clip.

use std::path::Path;

use fonex_core::text::TextProfile;
use fonex_core::{Clip, Delivery, Heard, Outcome, Task};
use fonex_store::{Machine, NewRun, Store, StoreError, Taken, TrialKey, TrialRecord, Variant};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

const WORDS: usize = 10;
const MOMENT: &str = "2026-01-02T03:04:05Z";
/// Per cent of the words that each variant takes for another.
const WRONG: [u32; 2] = [12, 10];

/// Writes it into a folder, half as many clips as trials. Gives the number of trials.
pub fn write(folder: &Path, trials: usize) -> usize {
    let mut random = Pcg64Mcg::seed_from_u64(6);
    let vocabulary: Vec<String> = (0..5_000).map(|number| format!("w{number:x}")).collect();
    let text = |random: &mut Pcg64Mcg| -> String {
        (0..WORDS).map(|_| vocabulary[random.random_range(0..5_000)].as_str()).collect::<Vec<_>>().join(" ")
    };
    let clips: Vec<Clip> = (0..trials / 2)
        .map(|at| Clip {
            id: format!("clip-{at:07}"),
            text: text(&mut random),
            lang: Some("en".to_owned()),
            tags: std::iter::once(("channel".to_owned(), ["radio", "desk"][at % 2].to_owned())).collect(),
            ..Clip::default()
        })
        .collect();
    let heard = |random: &mut Pcg64Mcg, clip: &Clip, variant: usize| -> String {
        let words = clip.text.split(' ').map(|word| {
            let wrong = random.random_range(0..100) < WRONG[variant];
            if wrong { vocabulary[random.random_range(0..5_000)].as_str() } else { word }
        });
        words.collect::<Vec<_>>().join(" ")
    };
    let mut order = (0..WRONG.len()).flat_map(|variant| (0..clips.len()).map(move |clip| (variant, clip)));
    let run = new_run(clips.clone(), trials);
    let store = Store::open(folder).unwrap();
    let taken = store.take_in_run::<StoreError>(&run, Some(MOMENT), || {
        Ok(order.next().map(|(variant, clip)| {
            Taken::Trial(Box::new(TrialRecord {
                key: TrialKey { variant, clip_id: clips[clip].id.clone(), repeat: 0, warm_up: false },
                outcome: Outcome::Done,
                detail: None,
                started_ms: clip as f64,
                took_ms: Some(random.random_range(100.0..300.0)),
                audio_s: Some(3.0),
                prepared: None,
                cpu_s: None,
                peak_memory_kib: None,
                heard: Some(Heard { text: heard(&mut random, &clips[clip], variant), ..Heard::default() }),
                audio_file: None,
                measures: None,
                speech: None,
                replied: None,
                first_ms: None,
                traffic: Default::default(),
                used: None,
                made_by: None,
            }))
        }))
    });
    taken.unwrap();
    clips.len() * WRONG.len()
}

fn new_run(clips: Vec<Clip>, trials: usize) -> NewRun {
    let variant = |model: &str| Variant {
        name: format!("marl/{model}"),
        engine: "marl".to_owned(),
        task: Task::Hear,
        transport: "standin".to_owned(),
        model: model.to_owned(),
        voice: String::new(),
        settings: Default::default(),
        engine_version: None,
        delivery: Delivery::Whole,
        languages: Vec::new(),
        prices: None,
        hears: None,
    };
    NewRun {
        label: None,
        plan: "hear".to_owned(),
        commit: None,
        started_at: MOMENT.to_owned(),
        seed: 7,
        fingerprint: "f".to_owned(),
        fonex_version: env!("CARGO_PKG_VERSION").to_owned(),
        text_profile: TextProfile::shipped("neutral").unwrap(),
        corpus_path: "corpus.jsonl".to_owned(),
        corpus_checksum: "c".to_owned(),
        bench_checksum: "b".to_owned(),
        overrides: Vec::new(),
        machine: Machine {
            cpu: "any".to_owned(),
            cores: 2,
            memory_mib: 1,
            os: "any".to_owned(),
            load_1m: None,
            during: None,
        },
        planned: trials as u64,
        variants: vec![variant("river"), variant("brook")],
        clips,
        left_out: Vec::new(),
        notes: Vec::new(),
    }
}
