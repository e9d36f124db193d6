//! The store on real files in a temporary folder.

use std::path::Path;

use fonex_core::cost::Usage;
use fonex_core::latency::{Request, Traffic};
use fonex_core::text::TextProfile;
use fonex_core::{Clip, Delivery, Heard, Outcome, Pace};
use fonex_store::{
    FactsKey, KeptFact, LeftOut, Machine, NewRun, RunRef, RunState, Store, StoreError, Study, StudyKind, TrialKey,
    TrialRecord, Variant,
};

use crate::places::places;

fn clip(id: &str) -> Clip {
    serde_json::from_value(serde_json::json!({"id": id, "text": "Hold at pylon six.", "tags": {"channel": "radio"}}))
        .unwrap()
}

fn new_run(label: Option<&str>) -> NewRun {
    NewRun {
        commit: None,
        label: label.map(str::to_owned),
        plan: "hear".into(),
        started_at: "2026-01-02T03:04:05Z".into(),
        seed: 7,
        fingerprint: "f".into(),
        fonex_version: "0.1.0".into(),
        text_profile: TextProfile::shipped("neutral").unwrap(),
        corpus_path: "corpus.jsonl".into(),
        corpus_checksum: "c".into(),
        bench_checksum: "b".into(),
        overrides: vec!["seed=7".into()],
        machine: Machine {
            cpu: "cpu".into(),
            cores: 2,
            memory_mib: 100,
            os: "os".into(),
            load_1m: Some(0.5),
            during: None,
        },
        planned: 2,
        variants: vec![Variant {
            name: "marl/river".into(),
            engine: "marl".into(),
            task: fonex_core::Task::Hear,
            transport: "standin".into(),
            model: "river".into(),
            voice: String::new(),
            settings: [("beam".to_owned(), "4".to_owned())].into(),
            engine_version: Some("stand-in".into()),
            delivery: Delivery::Whole,
            languages: Vec::new(),
            prices: None,
            hears: None,
        }],
        clips: vec![clip("b"), clip("a")],
        left_out: vec![LeftOut { clip_id: "z".into(), reason: "no audio".into() }],
        notes: Vec::new(),
    }
}

fn trial(clip_id: &str, outcome: Outcome) -> TrialRecord {
    TrialRecord {
        key: TrialKey { variant: 0, clip_id: clip_id.into(), repeat: 0, warm_up: false },
        outcome,
        detail: Some("why".into()),
        started_ms: 1.5,
        took_ms: Some(20.25),
        audio_s: Some(2.0),
        cpu_s: None,
        peak_memory_kib: Some(4096),
        heard: Some(Heard { text: "hold".into(), ..Heard::default() }),
        audio_file: None,
        measures: None,
        speech: None,
        prepared: Some("flac 16000 Hz 1 channel to wav 16000 Hz 16 bit".into()),
        replied: Some("holding".into()),
        first_ms: Some(3.5),
        traffic: Traffic { requests: vec![Request::begun("ask", 7)], start_up_ms: Some(9.0), ..Traffic::default() },
        used: Some(Usage { requests: 1, characters: 0, audio_s: 2.0 }),
        made_by: None,
    }
}

#[test]
fn what_is_written_is_read_back_after_reopening() {
    for place in places() {
        let written = new_run(Some("w41"));
        let mut store = place.open();
        let id = store.create_run(&written).unwrap();
        assert!(store.save_trial(id, &trial("a", Outcome::Done)).unwrap());
        assert!(!store.save_trial(id, &trial("a", Outcome::Broken)).unwrap(), "a trial is never done twice");
        store.save_trial(id, &trial("b", Outcome::Late)).unwrap();
        drop(store);

        let store = place.open();
        assert_eq!(store.unfinished("f", Some("w41")).unwrap(), Some(id));
        assert_eq!(store.unfinished("f", None).unwrap(), None, "the label belongs to the run");
        store.finish_run(id, "2026-01-02T03:05:00Z").unwrap();
        assert_eq!(store.unfinished("f", Some("w41")).unwrap(), None);
        let run = store.run(&RunRef::Label("w41".into())).unwrap().unwrap();
        assert_eq!((run.id, run.state, &run.variants), (id, RunState::Finished, &written.variants));
        assert_eq!((&run.machine, &run.left_out), (&written.machine, &written.left_out));
        assert_eq!(store.run(&RunRef::Last).unwrap(), Some(run));
        assert_eq!(store.run(&RunRef::Number(99)).unwrap(), None);
        assert_eq!(store.clips("c").unwrap(), written.clips, "in corpus order");
        assert_eq!(store.trials(id).unwrap(), [trial("a", Outcome::Done), trial("b", Outcome::Late)]);
        assert_eq!(store.outcomes(id).unwrap(), [(Outcome::Done, 1), (Outcome::Late, 1)]);
        assert!(store.done(id).unwrap().contains(&trial("b", Outcome::Done).key));
    }
}

#[test]
fn a_run_belongs_to_one_process_at_a_time() {
    for place in places() {
        let store = place.open();
        let lock = store.lock(1).unwrap();
        assert!(matches!(place.open().lock(1), Err(StoreError::Busy(1))));
        store.unlock(1, lock);
        drop(store.lock(1).unwrap());
    }
}

#[test]
fn a_run_is_never_held_twice_while_it_passes_from_hand_to_hand() {
    for place in places() {
        use std::sync::atomic::{AtomicU32, Ordering};
        drop(place.open());
        let holders = AtomicU32::new(0);
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    let store = place.open();
                    let mut own = 0;
                    while own < 2_000 {
                        let Ok(lock) = store.lock(1) else {
                            std::thread::yield_now();
                            continue;
                        };
                        own += 1;
                        assert_eq!(holders.fetch_add(1, Ordering::SeqCst), 0);
                        let scratch = store.scratch(1, &lock).unwrap();
                        std::fs::write(scratch.join("mine"), "").unwrap();
                        std::thread::yield_now();
                        assert!(scratch.join("mine").exists(), "the holder's folder went");
                        holders.fetch_sub(1, Ordering::SeqCst);
                        store.unlock(1, lock);
                    }
                });
            }
        });
        assert!(!place.path().join("scratch-1").exists());
    }
}

#[test]
fn audio_is_kept_once_by_its_content() {
    let folder = tempfile::tempdir().unwrap();
    let files = Store::open(folder.path()).unwrap().audio_files();
    let name = files.keep("abc", "flac", b"sound").unwrap();
    assert_eq!(files.keep("abc", "flac", b"sound").unwrap(), name);
    assert_eq!(std::fs::read(files.path(&name)).unwrap(), b"sound");
    assert_eq!(std::fs::read_dir(folder.path().join("audio")).unwrap().count(), 1);
}

#[test]
fn studies_are_found_by_kind_and_number_after_reopening() {
    for place in places() {
        let store = place.open();
        let study = |kind: StudyKind, pace: u64| Study {
            kind,
            made_at: "2026-01-02T03:04:05Z".into(),
            machine: new_run(None).machine,
            fonex_version: "0.1.0".into(),
            figures: serde_json::json!({"pace": pace}),
        };
        let made = [(StudyKind::Load, 1), (StudyKind::Turns, 2), (StudyKind::Load, 3)];
        let ids = made.map(|(kind, pace)| store.add_study(&study(kind, pace)).unwrap());
        drop(store);
        let store = place.open();
        let found = |kind, id| {
            store.study(kind, id).unwrap().map(|(id, study)| (id, study.figures["pace"].as_u64().unwrap()))
        };
        assert_eq!(found(StudyKind::Load, None), Some((ids[2], 3)), "the newest of its kind");
        assert_eq!(found(StudyKind::Load, Some(ids[0])), Some((ids[0], 1)));
        assert_eq!(found(StudyKind::Load, Some(ids[1])), None, "that one is of turns");
        assert_eq!(found(StudyKind::Turns, None), Some((ids[1], 2)));
        let all = store.studies().unwrap();
        assert_eq!(all, made.iter().zip(ids).map(|((kind, pace), id)| (id, study(*kind, *pace))).collect::<Vec<_>>());
    }
}

#[test]
fn a_newer_store_and_a_file_that_is_none_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    drop(Store::open(folder.path()).unwrap());
    let database = rusqlite::Connection::open(folder.path().join("runs.db")).unwrap();
    database.pragma_update(None, "user_version", 99).unwrap();
    drop(database);
    assert!(matches!(Store::open(folder.path()), Err(StoreError::Newer { found: 99, .. })));

    std::fs::write(folder.path().join("runs.db"), "no database at all, but long enough to be read as one").unwrap();
    let other: &Path = folder.path();
    assert!(matches!(Store::open(other), Err(StoreError::Database(_))));
}

#[test]
fn a_store_of_the_first_version_is_brought_up_to_date_with_its_trials() {
    let folder = tempfile::tempdir().unwrap();
    let mut store = Store::open(folder.path()).unwrap();
    let id = store.create_run(&new_run(None)).unwrap();
    store.save_trial(id, &trial("a", Outcome::Done)).unwrap();
    let ended = store.create_run(&new_run(None)).unwrap();
    store.save_trial(ended, &trial("a", Outcome::Late)).unwrap();
    store.finish_run(ended, "2026-01-02T03:05:00Z").unwrap();
    drop(store);
    // What later versions added is taken away again.
    let database = rusqlite::Connection::open(folder.path().join("runs.db")).unwrap();
    for column in ["prepared", "first_ms", "replied", "traffic", "used", "speech"] {
        database.execute_batch(&format!("alter table trials drop column {column};")).unwrap();
    }
    database
        .execute_batch(
            "drop table retried; drop table studies; drop table facts; drop table sheets; drop index clips_by_id;",
        )
        .unwrap();
    database.execute_batch("alter table runs drop column listed; alter table trials drop column made_by;").unwrap();
    database.pragma_update(None, "user_version", 1).unwrap();
    drop(database);

    let store = Store::open(folder.path()).unwrap();
    let bare = TrialRecord {
        prepared: None,
        first_ms: None,
        replied: None,
        traffic: Traffic::default(),
        used: None,
        ..trial("a", Outcome::Done)
    };
    assert_eq!(store.trials(id).unwrap(), [bare]);
    let listed = store.listed_runs().unwrap();
    assert!(listed.iter().all(|run| (run.planned, run.variants.as_slice()) == (2, &["marl/river".to_owned()])));
    let counted: Vec<_> = listed.into_iter().map(|run| run.outcomes).collect();
    assert_eq!(counted, [[(Outcome::Done, 1)], [(Outcome::Late, 1)]]);
    assert!(store.save_trial(id, &trial("b", Outcome::Done)).unwrap());
}

#[test]
fn deliveries_that_were_stored_as_text_are_read_as_what_they_are() {
    let folder = tempfile::tempdir().unwrap();
    let mut store = Store::open(folder.path()).unwrap();
    let whole = new_run(None).variants.remove(0);
    let id = store.create_run(&NewRun { variants: vec![whole; 7], ..new_run(None) }).unwrap();
    let other = store.create_run(&new_run(Some("whole"))).unwrap();
    drop(store);
    let database = rusqlite::Connection::open(folder.path().join("runs.db")).unwrap();
    for (at, text) in ["pieces=2.5s", "pieces=5s-0.5s", "pauses=0.3s", "live", "live=8x", "whole"].iter().enumerate()
    {
        let sql = format!("update runs set record = json_set(record, '$.variants[{at}].delivery', $1) where id = $2");
        assert_eq!(database.execute(&sql, rusqlite::params![text, id]).unwrap(), 1);
    }
    database
        .execute_batch(
            "alter table trials drop column speech; alter table trials drop column made_by;
             alter table runs drop column listed; drop index clips_by_id; drop table retried;",
        )
        .unwrap();
    database.pragma_update(None, "user_version", 5).unwrap();
    drop(database);

    let store = Store::open(folder.path()).unwrap();
    let run = store.run(&RunRef::Number(id)).unwrap().unwrap();
    let found: Vec<Delivery> = run.variants.iter().map(|variant| variant.delivery).collect();
    let expected = [
        Delivery::Pieces { window_s: 2.5, overlap_s: 0.0 },
        Delivery::Pieces { window_s: 5.0, overlap_s: 0.5 },
        Delivery::Pauses { pause_s: 0.3, longest_s: 30.0 },
        Delivery::Live(Pace::default()),
        Delivery::Live(Pace { speed: 8.0, ..Pace::default() }),
        Delivery::Whole,
        Delivery::Whole,
    ];
    assert_eq!(found, expected);
    assert_eq!(store.run(&RunRef::Number(other)).unwrap().unwrap().variants, new_run(None).variants);
}

#[test]
fn facts_are_kept_whole_or_not_at_all_and_lock_nobody_out() {
    for place in places() {
        let mut store = place.open();
        let id = store.create_run(&new_run(None)).unwrap();
        let key = FactsKey { run: id, profile: "p".into(), version: 1, trials: 0 };
        let fact = |record: &[u8]| KeptFact { variant: 0, fact: "words".into(), record: record.to_vec() };
        let kept = || store.kept_fact(&key, 0, "words").unwrap();
        let other = place.open();

        let keeping = store.keep_facts(key.clone()).unwrap();
        keeping.add(&fact(b"old")).unwrap();
        assert_eq!(kept(), None, "nobody sees half of them");
        assert!(other.save_trial(id, &trial("a", Outcome::Done)).unwrap(), "others write meanwhile");
        keeping.finish().unwrap();
        assert_eq!(kept().as_deref(), Some(&b"old"[..]));

        let abandoned = store.keep_facts(key.clone()).unwrap();
        abandoned.add(&fact(b"new")).unwrap();
        drop(abandoned);
        assert_eq!(kept().as_deref(), Some(&b"old"[..]), "what was not finished is as if it had not been");
        let keeping = store.keep_facts(key.clone()).unwrap();
        keeping.add(&fact(b"new")).unwrap();
        keeping.finish().unwrap();
        assert_eq!(kept().as_deref(), Some(&b"new"[..]));
        // Two that build at once do not take each other for gone, whatever their processes are numbered.
        let (one, another) = (store.keep_facts(key.clone()).unwrap(), other.keep_facts(key.clone()).unwrap());
        one.add(&fact(b"one")).unwrap();
        another.add(&fact(b"another")).unwrap();
        one.finish().unwrap();
        assert_eq!(kept().as_deref(), Some(&b"one"[..]));
        another.finish().unwrap();
        assert_eq!(kept().as_deref(), Some(&b"another"[..]));
        drop(store.keep_facts(key.clone()).unwrap());
        let newer = FactsKey { version: 2, ..key.clone() };
        assert_eq!(store.kept_fact(&newer, 0, "words").unwrap(), None, "another version is stale");
        assert_eq!(place.number("select count(*) from facts"), 1, "nothing is left behind");
    }
}
