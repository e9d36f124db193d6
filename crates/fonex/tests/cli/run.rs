//! `fonex run`: what is done stays done.

use std::collections::HashSet;

use serde_json::Value;

use crate::contract::RunLine;
use crate::util::{Folder, corpus};

fn bench(folder: &Folder, start_ms: u32) {
    let texts: Vec<(String, String)> =
        (0..12).map(|i| (format!("c{i:02}"), format!("Cabin {i} hold at pylon six"))).collect();
    let clips: Vec<(&str, &str, &str)> = texts
        .iter()
        .enumerate()
        .map(|(i, (id, text))| (id.as_str(), text.as_str(), if i % 2 == 0 { "radio" } else { "desk" }))
        .collect();
    corpus(folder, &clips);
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\nmodels = [\"brook\", \"river\"]\n\
             behaviour.default = {{ start_ms = {start_ms}, rtf = 0.0, base_errors = 0.2 }}\n\
             [plan.all]\nengines = [\"marl\"]\nrepeats = 2\nwarm_up = 1\nconcurrency = 3\n\
             [plan.ways]\nengines = [\"marl\"]\nmodels = [\"river\"]\n\
             delivery = [\"whole\", {{ pieces = {{ window_s = 1 }} }}]\n\
             [plan.radio]\nengines = [\"marl\"]\nmodels = [\"river\"]\nselect = {{ channel = [\"radio\"], id = [\"c00\", \"c02\", \"c03\"] }}\n"
        ),
    );
}

fn runs(folder: &Folder) -> Vec<RunLine> {
    folder.fonex(&["runs", "--format", "json"]).expect(0).json()
}

#[test]
fn a_plan_is_clips_times_variants_times_repeats() {
    let folder = Folder::new();
    bench(&folder, 1);
    let view: Value = folder.fonex(&["run", "all", "--label", "w1", "--format", "json"]).expect(0).json();
    for variant in view["variants"].as_array().unwrap() {
        assert_eq!((&variant["trials"], &variant["warm_up"]), (&24.into(), &3.into()));
        assert_eq!(variant["score"]["clips"], 12, "repeats of a clip count as one clip");
        assert_eq!(variant["score"]["words"]["reference"], 12 * 2 * 6);
        assert_eq!(variant["measures"]["latency_p50"]["rows"], 24);
        assert_eq!(variant["measures"]["latency_p50"]["units"], 12);
    }
    let run = &view["run"];
    for field in ["seed", "fonex_version", "corpus_checksum", "bench_checksum", "started_at", "finished_at"] {
        assert!(!run[field].is_null(), "{field}");
    }
    for field in ["cpu", "cores", "memory_mib", "os", "load_1m"] {
        assert!(!run["machine"][field].is_null(), "{field}");
    }
    folder.fonex(&["run", "radio"]).expect(0);
    folder.fonex(&["run", "radio", "--set", "seed=9"]).expect(0);
    let runs = runs(&folder);
    let of = |at: usize| (runs[at].run, runs[at].plan.as_str(), runs[at].trials, runs[at].state.as_str());
    assert_eq!(
        (of(0), of(1), of(2)),
        ((1, "all", 48, "finished"), (2, "radio", 2, "finished"), (3, "radio", 2, "finished"))
    );
    assert_eq!(runs[0].label.as_deref(), Some("w1"));
    folder.fonex(&["show", "w1", "--clip", "c01"]).expect(0).prints(&["marl/brook", "marl/river", "key"]);
    folder.fonex(&["show", "w2"]).expect(2).says(&["no run \"w2\"", "fonex runs lists them"]);
}

#[test]
fn killed_in_the_middle_and_run_again_every_trial_is_there_once() {
    let folder = Folder::new();
    bench(&folder, 100);
    let mut least = 1;
    for _ in 0..3 {
        let mut child = folder.start(&["run", "all"]);
        while !folder.path().join(".fonex/runs.db").exists() || runs(&folder).first().is_none_or(|r| r.trials < least)
        {
            assert!(child.try_wait().unwrap().is_none(), "it must not end by itself yet");
        }
        child.kill().unwrap();
        child.wait().unwrap();
        least = runs(&folder)[0].trials + 4;
        assert_eq!(runs(&folder)[0].state, "unfinished");
    }
    folder.fonex(&["run", "all"]).expect(0).says(&["Resumed run 1"]);
    let runs = runs(&folder);
    assert_eq!((runs.len(), runs[0].trials, runs[0].planned, runs[0].state.as_str()), (1, 48, 48, "finished"));
    let database = rusqlite::Connection::open(folder.path().join(".fonex/runs.db")).unwrap();
    let mut select = database.prepare("select variant, clip_id, repeat, warm_up from trials").unwrap();
    let keys: Vec<(i64, String, i64, bool)> = select
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?)))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    assert_eq!(keys.iter().collect::<HashSet<_>>().len(), keys.len());
    assert_eq!(keys.iter().filter(|key| !key.3).count(), 48);
    // Each execution warms both variants up anew, with as many trials as are made at a time.
    let warm = |variant: i64| keys.iter().filter(|key| key.3 && key.0 == variant).count();
    assert!(warm(0) >= 4 * 3 - 2 && warm(1) >= 4 * 3 - 2, "{keys:?}");
}

#[test]
fn ctrl_c_keeps_what_is_done_and_says_how_to_go_on() {
    let folder = Folder::new();
    bench(&folder, 200);
    let child = folder.start(&["run", "all", "--label", "night"]);
    while !folder.path().join(".fonex/runs.db").exists() || runs(&folder).first().is_none_or(|r| r.trials < 1) {}
    let interrupted = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(interrupted.success());
    let done = folder.done(&["run", "all"], child.wait_with_output().unwrap());
    done.expect(130).says(&["was interrupted", "fonex run all --label night"]);
    let before = runs(&folder)[0].trials;
    assert!(before >= 1);
    let other = ["run", "all", "--label", "night", "--set", "seed=2"];
    folder.fonex(&other).expect(2).says(&["has the label \"night\" already"]);
    folder.fonex(&[&other[..], &["--again"]].concat()).expect(0);
    assert_eq!(runs(&folder).len(), 2, "another seed is another run");
}

#[test]
fn two_processes_do_not_execute_one_run() {
    let folder = Folder::new();
    bench(&folder, 200);
    let mut child = folder.start(&["run", "all"]);
    while !folder.path().join(".fonex/runs.db").exists() || runs(&folder).first().is_none_or(|r| r.trials < 1) {}
    folder.fonex(&["run", "all"]).expect(2).says(&["being executed by another process"]);
    child.kill().unwrap();
    child.wait().unwrap();
}

#[test]
fn of_two_that_start_a_plan_at_the_same_moment_one_executes_it() {
    // Five at a time, since they mostly wait.
    std::thread::scope(|scope| {
        for _ in 0..5 {
            scope.spawn(|| {
                let folder = Folder::new();
                bench(&folder, 120);
                let mut codes: Vec<Option<i32>> = [folder.start(&["run", "all"]), folder.start(&["run", "all"])]
                    .map(|child| child.wait_with_output().unwrap().status.code())
                    .to_vec();
                codes.sort_unstable();
                assert_eq!(codes, [Some(0), Some(2)]);
                assert_eq!(runs(&folder).len(), 1);
            });
        }
    });
}

#[test]
fn windows_shows_the_run_it_executed_and_its_state() {
    let folder = Folder::new();
    bench(&folder, 150);
    let child = folder.start(&["windows", "ways"]);
    while !folder.path().join(".fonex/runs.db").exists() || runs(&folder).first().is_none_or(|r| r.trials < 3) {}
    let interrupted = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(interrupted.success());
    let done = folder.done(&["windows", "ways"], child.wait_with_output().unwrap());
    done.expect(130).prints(&["Run 1, unfinished"]);
    // A newer run of another plan, and then the older one is resumed.
    folder.fonex(&["run", "radio"]).expect(0);
    let study: Value = folder.fonex(&["windows", "ways", "--format", "json"]).expect(0).json();
    assert_eq!((&study["run"], &study["finished"]), (&1.into(), &true.into()));
    for window in study["windows"].as_array().unwrap() {
        assert_eq!(window["clips"], 12, "{window}");
    }
    let before: Value = folder.fonex(&["runs", "list", "--format", "json"]).expect(0).json();
    folder.fonex(&["windows", "all"]).expect(2).says(&["the plan \"all\" delivers audio in one way only"]);
    let after: Value = folder.fonex(&["runs", "--format", "json"]).expect(0).json();
    assert_eq!(before, after, "nothing was run");
    folder.fonex(&["windows", "--run", "2"]).expect(2).says(&["run 2 delivers audio in one way only"]);
}
