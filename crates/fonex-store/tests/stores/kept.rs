//! Looking after what is kept: copied from place to place, checked, pruned.

use fonex_core::text::TextProfile;
use fonex_core::{Clip, Delivery, Heard, Outcome, Task};
use fonex_store::{
    CopiedRun, FactsKey, KeptFact, Machine, NewRun, Pruning, RunRef, RunState, Store, Study, StudyKind, TrialKey,
    TrialRecord, Variant,
};

use crate::places::{Place, places};

fn machine() -> Machine {
    Machine { cpu: "cpu".into(), cores: 2, memory_mib: 100, os: "os".into(), load_1m: None, during: None }
}

fn new_run(label: Option<&str>, plan: &str, started_at: &str) -> NewRun {
    let clip = |id: usize| Clip { id: format!("c{id}"), text: "Hold.".into(), ..Clip::default() };
    NewRun {
        commit: None,
        label: label.map(str::to_owned),
        plan: plan.into(),
        started_at: started_at.into(),
        seed: 7,
        fingerprint: format!("f {plan}"),
        fonex_version: "0.1.0".into(),
        text_profile: TextProfile::shipped("neutral").unwrap(),
        corpus_path: "corpus.jsonl".into(),
        corpus_checksum: format!("corpus of {plan}"),
        bench_checksum: "b".into(),
        overrides: Vec::new(),
        machine: machine(),
        planned: 700,
        variants: vec![Variant {
            name: "marl".into(),
            engine: "marl".into(),
            task: Task::Hear,
            transport: "standin".into(),
            model: String::new(),
            voice: String::new(),
            settings: [].into(),
            engine_version: None,
            delivery: Delivery::Whole,
            languages: Vec::new(),
            prices: None,
            hears: None,
        }],
        clips: (0..700).map(clip).collect(),
        left_out: Vec::new(),
        notes: Vec::new(),
    }
}

fn trial(clip: usize) -> TrialRecord {
    TrialRecord {
        key: TrialKey { variant: 0, clip_id: format!("c{clip}"), repeat: 0, warm_up: false },
        outcome: if clip.is_multiple_of(9) { Outcome::Broken } else { Outcome::Done },
        // A text that a server cannot hold as it is.
        detail: clip.is_multiple_of(9).then(|| format!("said \0 {clip} \u{f8fe}0")),
        // No short decimal: every bit has to arrive.
        started_ms: 1.0 / (clip as f64 + 3.0),
        took_ms: Some(clip as f64),
        audio_s: None,
        prepared: None,
        cpu_s: None,
        peak_memory_kib: clip.is_multiple_of(2).then_some(u64::from(u32::MAX) + 5),
        heard: Some(Heard { text: "hold\0 fast".into(), ..Heard::default() }),
        audio_file: None,
        measures: None,
        speech: None,
        replied: None,
        first_ms: None,
        traffic: fonex_core::latency::Traffic::default(),
        used: None,
        made_by: None,
    }
}

/// Two runs, the second unfinished, with facts, sound and a study.
fn fill(store: &mut Store) -> (i64, i64) {
    let finished = store.create_run(&new_run(Some("w1"), "one", "2026-01-02T00:00:00Z")).unwrap();
    (0..700).for_each(|clip| assert!(store.save_trial(finished, &trial(clip)).unwrap()));
    store.finish_run(finished, "2026-01-02T01:00:00Z").unwrap();
    let unfinished = store.create_run(&new_run(None, "two", "2026-02-02T00:00:00Z")).unwrap();
    let name = store.audio_files().keep(&checksum(b"sound"), "wav", b"sound").unwrap();
    let spoken = TrialRecord { audio_file: Some(name), ..trial(1) };
    assert!(store.save_trial(unfinished, &spoken).unwrap());
    let keeping = store.keep_facts(key(finished, 1)).unwrap();
    keeping.add(&KeptFact { variant: 0, fact: "words".into(), record: vec![0, 255, 7] }).unwrap();
    keeping.finish().unwrap();
    store.keep_sheet("corpus of one", 1, b"sheet").unwrap();
    store.add_study(&study()).unwrap();
    (finished, unfinished)
}

fn study() -> Study {
    Study {
        kind: StudyKind::Load,
        made_at: "2026-01-01T00:00:00Z".into(),
        machine: machine(),
        fonex_version: "0.1.0".into(),
        figures: serde_json::json!({"knee": 4}),
    }
}

fn key(run: i64, version: u32) -> FactsKey {
    FactsKey { run, profile: "p".into(), version, trials: 700 }
}

fn checksum(bytes: &[u8]) -> String {
    use sha2::Digest;
    sha2::Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// From every kind of place to every kind.
fn ways() -> Vec<(Place, Place)> {
    let count = places().len();
    let every = |at: usize| places().swap_remove(at);
    (0..count).flat_map(|from| (0..count).map(move |to| (every(from), every(to)))).collect()
}

#[test]
fn a_copy_has_everything_and_going_on_copies_nothing_twice() {
    for (from, to) in ways() {
        let (mut one, other) = (from.open(), to.open());
        let (finished, unfinished) = fill(&mut one);
        let copied = one.copy_run(finished, &other).unwrap();
        let CopiedRun::Copied { run, trials: 700, sounds: 0, lost: 0 } = copied else { panic!("{copied:?}") };
        assert_eq!(other.trials(run).unwrap(), one.trials(finished).unwrap());
        assert_eq!(other.clips("corpus of one").unwrap(), one.clips("corpus of one").unwrap());
        assert_eq!(other.kept_fact(&key(run, 1), 0, "words").unwrap(), Some(vec![0, 255, 7]));
        assert_eq!(other.kept_sheet("corpus of one", 1).unwrap().as_deref(), Some(&b"sheet"[..]));
        let record = |store: &Store, id| store.run(&RunRef::Number(id)).unwrap().unwrap();
        assert_eq!(record(&other, run), fonex_store::Run { id: run, ..record(&one, finished) });
        assert_eq!(one.copy_run(finished, &other).unwrap(), CopiedRun::There { run });

        // One that went on here is completed there, and can be resumed there until it is.
        let CopiedRun::Copied { run: second, trials: 1, sounds: 1, lost: 0 } =
            one.copy_run(unfinished, &other).unwrap()
        else {
            panic!("not copied")
        };
        assert_eq!(other.unfinished("f two", None).unwrap(), Some(second));
        let sound = other.trials(second).unwrap()[0].audio_file.clone().unwrap();
        assert_eq!(std::fs::read(other.audio_files().path(&sound)).unwrap(), b"sound");
        assert!(one.save_trial(unfinished, &trial(2)).unwrap());
        one.finish_run(unfinished, "2026-02-02T01:00:00Z").unwrap();
        let again = one.copy_run(unfinished, &other).unwrap();
        assert_eq!(again, CopiedRun::Copied { run: second, trials: 2, sounds: 1, lost: 0 });
        assert_eq!(record(&other, second).state, RunState::Finished);

        // One that went on there is not overwritten from here.
        assert!(
            other.save_trial(run, &TrialRecord { key: TrialKey { repeat: 1, ..trial(1).key }, ..trial(1) }).unwrap()
        );
        assert_eq!(one.copy_run(finished, &other).unwrap(), CopiedRun::Differs { run, here: 700, there: 701 });
        assert_eq!((one.copy_studies(&other).unwrap(), one.copy_studies(&other).unwrap()), (1, 0));
        assert_eq!(other.studies().unwrap(), [(1, study())]);
    }
}

#[test]
fn what_is_wrong_with_a_store_is_found_and_named() {
    for place in places() {
        let mut store = place.open();
        let (finished, unfinished) = fill(&mut store);
        let sound = checked_clean(&store);
        assert_eq!(sound, (2, 701, 1_400, 1));
        let wrong = |of: &str| {
            let wrong = store.check(|_| {}).unwrap().wrong;
            assert!(wrong.iter().any(|line| line.contains(of)), "{of}: {wrong:?}");
            wrong.len()
        };
        place.change(&format!("update trials set clip_id = 'gone' where run_id = {finished} and clip_id = 'c5'"));
        assert_eq!(wrong("run 1, trial of gone: its corpus has no such clip"), 1);
        place.change(&format!("update trials set heard = '{{' where run_id = {finished} and clip_id = 'c6'"));
        assert_eq!(wrong("run 1, trial of c6: "), 2);
        place.change(&format!("delete from trials where run_id = {finished} and clip_id = 'c7'"));
        assert_eq!(wrong("run 1: it has 699 timed trials, and had 700 when it was finished"), 3);
        place.change(&format!("update trials set variant = 3 where run_id = {unfinished}"));
        assert_eq!(wrong("run 2 has a trial of variant 3, and 1 variants"), 4);
        place.change(&format!("update trials set variant = 0 where run_id = {unfinished}"));
        let name = format!("{}.wav", checksum(b"sound"));
        std::fs::write(store.audio_files().path(&name), "noise").unwrap();
        wrong("run 2, trial of c1: its sound");
        std::fs::remove_file(store.audio_files().path(&name)).unwrap();
        place.change("update clips set record = '{}' where ordinal = 3");
        wrong("run 1, label c3: ");
    }
}

fn checked_clean(store: &Store) -> (u64, u64, u64, u64) {
    let checked = store.check(|_| {}).unwrap();
    assert_eq!(checked.wrong, Vec::<String>::new());
    (checked.runs, checked.trials, checked.clips, checked.sounds)
}

#[test]
fn pruning_takes_what_was_asked_for_and_what_nobody_reads() {
    for place in places() {
        let mut store = place.open();
        let (labelled, _) = fill(&mut store);
        let newest = store.create_run(&new_run(None, "two", "2026-03-02T00:00:00Z")).unwrap();
        let orphan = store.audio_files().keep(&checksum(b"alone"), "wav", b"alone").unwrap();
        let nothing = Pruning { facts_version: 1, ..Pruning::default() };
        let going = |pruning: &Pruning| -> Vec<i64> {
            let dry = store.prune(&Pruning { dry_run: true, ..pruning.clone() }).unwrap();
            dry.runs.iter().map(|(run, ..)| *run).collect()
        };
        let before = |day: &str| Pruning { before: Some(format!("{day}T00:00:00Z")), ..nothing.clone() };
        assert_eq!(going(&nothing), Vec::<i64>::new());
        assert_eq!(going(&before("2026-02-02")), Vec::<i64>::new(), "one with a label stays");
        assert_eq!(going(&Pruning { labelled: true, ..before("2026-02-02") }), [1]);
        assert_eq!(going(&before("2026-03-01")), [2]);
        assert_eq!(going(&Pruning { keep: Some(1), ..nothing.clone() }), [2]);
        assert_eq!(going(&Pruning { keep: Some(2), ..before("2027-01-01") }), Vec::<i64>::new());
        assert_eq!(going(&Pruning { keep: Some(0), labelled: true, ..nothing.clone() }), [1, 2, 3]);

        let held = place.open();
        let lock = held.lock(2).unwrap();
        let pruned = store.prune(&Pruning { keep: Some(1), ..nothing.clone() }).unwrap();
        assert_eq!((pruned.runs.len(), pruned.executed, pruned.sounds), (0, vec![2], 0), "it is being executed");
        assert!(store.audio_files().path(&orphan).exists(), "its sound may be among what no trial refers to yet");
        held.unlock(2, lock);
        let pruned = store.prune(&Pruning { keep: Some(1), facts_version: 2, ..Pruning::default() }).unwrap();
        assert_eq!((pruned.runs.len(), pruned.facts), (1, 1));
        assert!(pruned.sounds >= 1 && pruned.bytes >= 5);
        assert_eq!(store.kept_fact(&key(labelled, 1), 0, "words").unwrap(), None);
        assert_eq!(store.runs().unwrap().iter().map(|run| run.id).collect::<Vec<_>>(), [labelled, newest]);
        assert_eq!(checked_clean(&store).0, 2);
        assert_eq!(store.prune(&nothing).unwrap(), fonex_store::Pruned::default());
    }
}

/// A server may end in the middle and start anew: what was written stays, and who writes goes on, with the run that it holds.
#[cfg(feature = "postgres")]
#[test]
fn a_connection_that_breaks_is_opened_again_and_holds_its_run() {
    for place in places().into_iter().skip(1) {
        let mut store = place.open();
        let run = store.create_run(&new_run(None, "one", "2026-01-02T00:00:00Z")).unwrap();
        let lock = store.lock(run).unwrap();
        for clip in 0..20 {
            assert!(store.save_trial(run, &trial(clip)).unwrap());
            place.end_connections();
        }
        assert_eq!(store.trial_count(run).unwrap(), 20);
        assert!(place.open().lock(run).is_err(), "the run is still held");
        drop(lock);
        drop(place.open().lock(run).unwrap());
        assert_eq!(place.number("select count(*) from trials"), 20);
    }
}

#[cfg(feature = "postgres")]
#[test]
fn a_server_with_a_newer_store_or_without_one_is_told() {
    use fonex_store::StoreError;
    for place in places().into_iter().skip(1) {
        assert!(matches!(Store::open_to_read(&place.place()), Err(StoreError::Empty)));
        drop(place.open());
        drop(Store::open_to_read(&place.place()).unwrap());
        place.change("update fonex_store set version = 99");
        let Err(StoreError::Newer { found: 99, .. }) = Store::open_at(&place.place()) else { panic!("opened") };
    }
}

/// Several open a new server's store at the same moment: one makes it, the others find it.
#[cfg(feature = "postgres")]
#[test]
fn many_make_a_store_at_once_and_write_to_it_at_once() {
    for place in places().into_iter().skip(1) {
        std::thread::scope(|scope| {
            for writer in 0..6 {
                let place = &place;
                scope.spawn(move || {
                    let mut store = place.open();
                    let run =
                        store.create_run(&new_run(None, &format!("p{writer}"), "2026-01-02T00:00:00Z")).unwrap();
                    (0..50).for_each(|clip| assert!(store.save_trial(run, &trial(clip)).unwrap()));
                    store.finish_run(run, "2026-01-02T00:10:00Z").unwrap();
                });
            }
        });
        assert_eq!(place.number("select count(*) from trials"), 300);
        assert_eq!(checked_clean(&place.open()).0, 6);
    }
}
