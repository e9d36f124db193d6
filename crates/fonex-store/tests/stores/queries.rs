//! The store's narrow questions against the whole answer: what is read by round, by clip, by place is what all of it says.

use std::collections::{BTreeMap, BTreeSet};

use fonex_core::audio::measure;
use fonex_core::cost::Usage;
use fonex_core::speech::measure_speech;
use fonex_core::text::TextProfile;
use fonex_core::{Clip, Delivery, Heard, Outcome, Task};
use fonex_store::{Machine, NewRun, RunRef, RunState, Store, StoredTrial, TrialKey, TrialRecord, Variant};

use crate::places::places;

const CLIPS: usize = 23;
const REPEATS: u32 = 3;

fn clips() -> Vec<Clip> {
    (0..CLIPS).map(|at| Clip { id: format!("c{at}"), text: format!("hold {at}"), ..Clip::default() }).collect()
}

fn variant(name: &str) -> Variant {
    Variant {
        name: name.into(),
        engine: name.into(),
        task: Task::Hear,
        transport: "standin".into(),
        model: String::new(),
        voice: String::new(),
        settings: BTreeMap::new(),
        engine_version: None,
        delivery: Delivery::Whole,
        languages: Vec::new(),
        prices: None,
        hears: None,
    }
}

fn new_run(label: &str) -> NewRun {
    NewRun {
        commit: None,
        label: Some(label.to_owned()),
        plan: "p".into(),
        started_at: "2026-01-02T03:04:05Z".into(),
        seed: 1,
        fingerprint: label.into(),
        fonex_version: "0.1.0".into(),
        text_profile: TextProfile::shipped("neutral").unwrap(),
        corpus_path: "corpus.jsonl".into(),
        corpus_checksum: "c".into(),
        bench_checksum: "b".into(),
        overrides: Vec::new(),
        machine: Machine { cpu: "cpu".into(), cores: 2, memory_mib: 1, os: "os".into(), load_1m: None, during: None },
        planned: 0,
        variants: vec![variant("marl"), variant("tern")],
        clips: clips(),
        left_out: Vec::new(),
        notes: Vec::new(),
    }
}

/// A trial in which every field that may be there depends on its key.
fn trial(variant: usize, clip: usize, repeat: u32, warm_up: bool) -> TrialRecord {
    let number = variant * 1_000 + clip * 10 + repeat as usize;
    let every = |n: usize| number.is_multiple_of(n);
    let outcome = Outcome::ALL[number % Outcome::ALL.len()];
    let samples: Vec<f32> = (0..800).map(|i| ((i * (number % 7 + 3)) as f32 * 0.05).sin() * 0.2).collect();
    let audio = fonex_core::audio::Audio { rate_hz: 8_000, samples };
    let measures = measure(&audio);
    TrialRecord {
        key: TrialKey { variant, clip_id: format!("c{clip}"), repeat, warm_up },
        outcome,
        detail: (!outcome.is_answer()).then(|| format!("why {number}")),
        started_ms: number as f64,
        took_ms: (!every(3)).then_some(number as f64 / 2.0),
        audio_s: Some(0.5),
        prepared: every(5).then(|| "flac to wav".to_owned()),
        cpu_s: every(4).then_some(0.25),
        peak_memory_kib: (number % 4 == 1).then_some(number as u64),
        heard: outcome.is_answer().then(|| Heard { text: format!("hold {number} \u{1f6a1}"), ..Heard::default() }),
        audio_file: every(2).then(|| format!("{number}.flac")),
        measures: every(2).then_some(measures),
        speech: every(2).then(|| measure_speech(&audio, &measures)),
        replied: every(6).then(|| "wait".to_owned()),
        first_ms: (number % 3 == 1).then_some(1.5),
        traffic: fonex_core::latency::Traffic::default(),
        used: (number % 3 == 2).then_some(Usage { requests: 1, characters: number as u64, audio_s: 0.5 }),
        made_by: None,
    }
}

/// A run whose trials were stored in a scattered order, and all of them.
fn filled(store: &mut Store, label: &str, last_clip: usize) -> (i64, Vec<TrialRecord>) {
    let run = store.create_run(&new_run(label)).unwrap();
    let mut trials = Vec::new();
    for step in 0..CLIPS {
        let clip = step * 7 % CLIPS;
        for variant in 0..2 {
            if clip == 0 {
                trials.push(trial(variant, clip, 0, true));
            }
            trials
                .extend((0..REPEATS).filter(|_| clip <= last_clip).map(|repeat| trial(variant, clip, repeat, false)));
        }
    }
    for trial in &trials {
        assert!(store.save_trial(run, trial).unwrap());
        assert!(!store.save_trial(run, trial).unwrap(), "a trial is stored once");
    }
    (run, trials)
}

fn sorted(mut trials: Vec<TrialRecord>) -> Vec<TrialRecord> {
    trials.sort_by(|a, b| {
        let key = |t: &TrialRecord| (t.key.variant, !t.key.warm_up, t.key.repeat, t.key.clip_id.clone());
        key(a).cmp(&key(b))
    });
    trials
}

#[test]
fn every_way_of_reading_gives_the_same_trials() {
    for place in places() {
        let mut store = place.open();
        let (first, trials) = filled(&mut store, "first", CLIPS);
        let (second, others) = filled(&mut store, "second", 4);
        for (run, all) in [(first, &trials), (second, &others)] {
            assert_eq!(store.trials(run).unwrap(), sorted(all.clone()));
            assert_eq!(store.trial_count(run).unwrap(), all.len() as u64);
            let mut each = Vec::new();
            store.each_trial(run, |trial| each.push(trial)).unwrap();
            assert_eq!(&each, all, "in the order in which they were stored");
            for size in [1, 7, 1_000] {
                let (mut in_rounds, mut sizes) = (Vec::new(), Vec::new());
                store
                    .each_round(run, size, |round| {
                        sizes.push(round.len());
                        in_rounds.extend(round.iter().map(|stored| stored.read().unwrap()));
                        Ok(())
                    })
                    .unwrap();
                assert_eq!(&in_rounds, all);
                assert!(
                    sizes.iter().rev().skip(1).all(|own| *own == size)
                        && sizes.iter().all(|own| (1..=size).contains(own))
                );
            }
            assert_eq!(store.repeats(run, 1).unwrap(), REPEATS);
            for (variant, clip) in [(0, 0), (1, 3), (0, 22), (1, 99), (7, 0)] {
                let id = format!("c{clip}");
                let mut expected: Vec<TrialRecord> = all
                    .iter()
                    .filter(|trial| trial.key.variant == variant && trial.key.clip_id == id && !trial.key.warm_up)
                    .cloned()
                    .collect();
                expected.sort_by_key(|trial| trial.key.repeat);
                assert_eq!(store.trials_of_clip(run, variant, &id).unwrap(), expected);
                let stored = store.stored_trials_of(run, variant, &id, 2).unwrap();
                let two: Vec<TrialRecord> = stored.iter().map(StoredTrial::read).collect::<Result<_, _>>().unwrap();
                assert_eq!(two, expected.into_iter().take(2).collect::<Vec<_>>());
            }
            let done: BTreeSet<String> = store.done(run).unwrap().into_iter().map(|key| format!("{key:?}")).collect();
            assert_eq!(done, all.iter().map(|trial| format!("{:?}", trial.key)).collect());
        }
    }
}

#[test]
fn a_round_that_fails_ends_the_reading() {
    for place in places() {
        let mut store = place.open();
        let (run, _) = filled(&mut store, "first", CLIPS);
        let mut rounds = 0;
        let ended = store.each_round(run, 10, |_| {
            rounds += 1;
            if rounds == 3 { Err(fonex_store::StoreError::Busy(run)) } else { Ok(()) }
        });
        assert!(matches!(ended, Err(fonex_store::StoreError::Busy(_))) && rounds == 3);
    }
}

#[test]
fn sums_are_those_of_the_trials() {
    for place in places() {
        let mut store = place.open();
        let (run, trials) = filled(&mut store, "first", CLIPS);
        let timed = || trials.iter().filter(|trial| !trial.key.warm_up);
        for (outcome, count) in store.outcomes(run).unwrap() {
            assert_eq!(count, timed().filter(|trial| trial.outcome == outcome).count() as u64, "{outcome}");
        }
        // A list of runs says the same of one that goes on and of one that has ended.
        for state in [RunState::Unfinished, RunState::Finished] {
            let [listed] = store.listed_runs().unwrap().try_into().unwrap();
            let whole = store.run(&RunRef::Last).unwrap().unwrap();
            assert_eq!((listed.id, listed.state, whole.state), (run, state, state));
            assert_eq!((listed.label, listed.plan, listed.started_at), (whole.label, whole.plan, whole.started_at));
            assert_eq!(listed.variants, whole.variants.iter().map(|v| v.name.clone()).collect::<Vec<_>>());
            assert_eq!((listed.planned, listed.outcomes), (whole.planned, store.outcomes(run).unwrap()));
            store.finish_run(run, "2026-01-02T04:00:00Z").unwrap();
        }
        let mut used = [Usage::default(); 2];
        for (variant, usage) in store.used(run).unwrap() {
            used[variant] = used[variant].plus(usage);
        }
        for (variant, found) in used.iter().enumerate() {
            // Warm-up is charged as well.
            let own = trials.iter().filter(|trial| trial.key.variant == variant);
            let expected = own.filter_map(|trial| trial.used).fold(Usage::default(), Usage::plus);
            assert_eq!(*found, expected);
        }
    }
}

#[test]
fn labels_are_read_whole_and_one_by_one() {
    for place in places() {
        let mut store = place.open();
        store.create_run(&new_run("first")).unwrap();
        store.create_run(&new_run("second")).unwrap();
        assert_eq!(store.clips("c").unwrap(), clips(), "two runs of one corpus keep its labels once");
        let mut seen = Vec::new();
        store
            .each_label("c", |id, record| {
                let clip: Clip = serde_json::from_str(record)?;
                assert_eq!(clip.id, id);
                seen.push(clip);
                Ok(())
            })
            .unwrap();
        assert_eq!(seen, clips());
        for (at, clip) in (0..).zip(clips()) {
            assert_eq!(store.clip_at("c", at).unwrap(), Some(clip));
        }
        assert_eq!(store.clip_at("c", CLIPS as u32).unwrap(), None);
        for clip in clips() {
            assert_eq!(store.clip_named("c", &clip.id).unwrap(), Some(clip));
        }
        assert_eq!(store.clip_named("c", "none").unwrap(), None);
        assert_eq!(store.clip_named("another", &clips()[0].id).unwrap(), None);
        assert_eq!(store.clips("another").unwrap(), []);
    }
}

#[test]
fn runs_are_found_by_number_label_and_age() {
    for place in places() {
        let mut store = place.open();
        let ids: Vec<i64> =
            ["w1", "w2", "w1"].iter().map(|label| store.create_run(&new_run(label)).unwrap()).collect();
        let found = |which: RunRef| store.run(&which).unwrap().map(|run| run.id);
        assert_eq!(found(RunRef::Last), Some(ids[2]));
        assert_eq!(found(RunRef::Number(ids[0])), Some(ids[0]));
        assert_eq!(found(RunRef::Label("w1".into())), Some(ids[2]), "the newest");
        assert_eq!(found(RunRef::Label("w9".into())), None);
        let labelled: Vec<i64> = store.labelled("w1").unwrap().iter().map(|run| run.id).collect();
        assert_eq!(labelled, [ids[2], ids[0]]);
        // The newest unfinished one of the same plan and label is gone on with; a finished one is not.
        assert_eq!(store.unfinished("w1", Some("w1")).unwrap(), Some(ids[2]));
        store.finish_run(ids[2], "2026-01-02T04:00:00Z").unwrap();
        assert_eq!(store.unfinished("w1", Some("w1")).unwrap(), Some(ids[0]));
        assert_eq!(store.unfinished("w1", None).unwrap(), None);
        let states: Vec<RunState> = store.runs().unwrap().iter().map(|run| run.state).collect();
        assert_eq!(states, [RunState::Unfinished, RunState::Unfinished, RunState::Finished]);
        store.set_versions(ids[0], &[Some("2.1".into()), None]).unwrap();
        let versions: Vec<Option<String>> =
            store.runs().unwrap()[0].variants.iter().map(|v| v.engine_version.clone()).collect();
        assert_eq!(versions, [Some("2.1".to_owned()), None]);
        assert!(store.check_variants(ids[0], 2).is_ok());
    }
}
