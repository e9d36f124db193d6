//! What earlier versions wrote: a store of every schema, made by the program of that time, with the bench file and the JSON it showed then.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use flate2::read::GzDecoder;
use serde_json::Value;

use crate::util::{Folder, corpus};

/// The version that a store has today.
const TODAY: usize = 10;

pub(crate) fn stored() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/stored")
}

pub(crate) fn unpacked(path: &Path) -> Vec<u8> {
    let mut bytes = Vec::new();
    GzDecoder::new(std::fs::File::open(path).unwrap()).read_to_end(&mut bytes).unwrap();
    bytes
}

/// A folder whose store is that of a version, and what was shown of its first run then.
pub(crate) fn of_version(version: usize) -> (Folder, Value) {
    let kept = stored().join(format!("v{version}"));
    let folder = Folder::new();
    std::fs::create_dir(folder.path().join(".fonex")).unwrap();
    std::fs::write(folder.path().join(".fonex/runs.db"), unpacked(&kept.join("runs.db.gz"))).unwrap();
    (folder, serde_json::from_slice(&unpacked(&kept.join("shown.json.gz"))).unwrap())
}

fn number(value: &Value) -> f64 {
    value.as_f64().unwrap_or_else(|| panic!("{value}"))
}

fn assert_near(then: f64, today: f64, at: &str) {
    assert!((then - today).abs() <= 1e-13 * then.abs(), "{at}: {then} {today}");
}

/// What was shown then is shown today: what was recorded, every count, and every figure whose method is the same.
fn assert_shown(then: &Value, today: &Value, version: usize) {
    for key in [
        "id",
        "plan",
        "state",
        "started_at",
        "finished_at",
        "seed",
        "corpus_checksum",
        "machine",
        "planned",
        "variants",
    ] {
        assert_kept(&then["run"][key], &today["run"][key], &format!("v{version} run/{key}"));
    }
    let (then, today) = (then["variants"].as_array().unwrap(), today["variants"].as_array().unwrap());
    assert_eq!(then.len(), today.len());
    for (then, today) in then.iter().zip(today) {
        for key in ["name", "engine", "task", "transport", "model", "voice", "engine_version", "trials", "warm_up"] {
            assert_eq!(then[key], today[key], "v{version} {key}");
        }
        assert_kept(&then["outcomes"], &today["outcomes"], &format!("v{version} outcomes"));
        let (then_score, score) = (&then["score"], &today["score"]);
        for key in ["clips", "missing", "unknown", "clips_with_errors", "ser", "text_profile"] {
            assert_eq!(then_score[key], score[key], "v{version} {key}");
        }
        for of in ["words", "characters"] {
            for (key, value) in then_score[of].as_object().unwrap().iter().filter(|(key, _)| *key != "interval") {
                assert_eq!(value, &score[of][key], "v{version} {of} {key}");
            }
        }
        let mean = |score: &Value| number(&score["mean_clip_wer"]);
        assert!((mean(then_score) - mean(score)).abs() < 1e-12);
        // Times stood beside the score at first; now they are measures among others.
        let measure = |id: &str| number(&today["measures"][id]["value"]);
        if then["latency_ms"].is_object() {
            for (key, id) in [("p50", "latency_p50"), ("p95", "latency_p95"), ("p99", "latency_p99")] {
                assert_near(number(&then["latency_ms"][key]), measure(id), &format!("v{version} {id}"));
            }
            assert_near(number(&then["rtf"]["p50"]), measure("rtf"), &format!("v{version} rtf"));
        } else {
            for id in ["latency_p50", "rtf", "wer", "cer", "ser"] {
                assert_near(number(&then["measures"][id]["value"]), measure(id), &format!("v{version} {id}"));
            }
        }
    }
}

/// Everything in one value is in the other; that may hold more.
fn assert_kept(then: &Value, today: &Value, at: &str) {
    match (then, today) {
        (Value::Object(then), Value::Object(_)) => {
            then.iter().for_each(|(key, value)| assert_kept(value, &today[key], &format!("{at}/{key}")));
        }
        (Value::Array(then), Value::Array(now)) => {
            assert_eq!(then.len(), now.len(), "{at}");
            then.iter().zip(now).for_each(|(then, now)| assert_kept(then, now, at));
        }
        // Until version 6 a number lost its last digit on the way out of the store.
        (Value::Number(_), Value::Number(_)) => assert_near(number(then), number(today), at),
        // A delivery was told in words until version 6.
        (Value::String(_), Value::Object(_)) if at.ends_with("delivery") => {}
        _ => assert_eq!(then, today, "{at}"),
    }
}

#[test]
fn a_store_of_every_version_shows_what_it_showed() {
    for version in 1..TODAY {
        let (folder, then) = of_version(version);
        let today: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
        assert_shown(&then, &today, version);
        let runs: Vec<Value> = folder.fonex(&["runs", "--format", "json"]).expect(0).json();
        let states: Vec<&str> = runs.iter().map(|run| run["state"].as_str().unwrap()).collect();
        assert_eq!(states, ["finished", "finished", "unfinished"], "v{version}");
    }
}

#[test]
fn a_store_of_every_version_is_checked_compared_exported_and_copied() {
    for version in 1..TODAY {
        let (folder, _) = of_version(version);
        // The sound was not kept with it; nothing else is wrong.
        let done = folder.fonex(&["store", "check"]);
        let wrong: Vec<&str> = done.out.lines().filter(|line| line.starts_with("wrong")).collect();
        assert!(
            wrong.iter().all(|line| line.contains("its sound") && line.ends_with("is missing")),
            "v{version} {wrong:?}"
        );
        folder.fonex(&["compare", "1"]).expect(0).prints(&["marl/river"]);
        folder.fonex(&["trend", "--variant", "marl/river", "--format", "json"]).expect(0);
        folder.fonex(&["export", "1", "-o", "run.jsonl"]).expect(0);
        folder.fonex(&["import", "run.jsonl", "--again"]).expect(0);
        let [one, other] =
            ["1", "4"].map(|run| -> Value { folder.fonex(&["show", run, "--format", "json"]).expect(0).json() });
        assert_eq!(one["variants"], other["variants"], "v{version}");
        folder.fonex(&["store", "copy", ".fonex", "other"]).expect(0);
        let copied: Value = folder.fonex(&["show", "1", "--format", "json", "--store", "other"]).expect(0).json();
        assert_eq!(copied["variants"], one["variants"], "v{version}");
    }
}

#[test]
fn what_was_exported_is_imported_and_an_accepted_baseline_is_held() {
    let mut files = 0;
    for version in 1..TODAY {
        let kept = stored().join(format!("v{version}"));
        let (folder, then) = of_version(version);
        let exported = kept.join("run.fonexrun.jsonl.gz");
        if exported.is_file() {
            files += 1;
            folder.write("run.jsonl", unpacked(&exported));
            folder.fonex(&["import", "run.jsonl", "--store", "fresh"]).expect(0);
            let today: Value = folder.fonex(&["show", "1", "--format", "json", "--store", "fresh"]).expect(0).json();
            assert_shown(&then, &today, version);
        }
        if kept.join("baseline.jsonl").is_file() {
            files += 1;
            let bench = std::fs::read_to_string(kept.join("fonex.toml")).unwrap();
            folder.write("fonex.toml", bench.replace("plan = \"weekly\"", "plan = \"recognisers\""));
            folder.write("baseline.jsonl", std::fs::read(kept.join("baseline.jsonl")).unwrap());
            let held = folder.fonex(&["gate", "1", "--across", "corpus"]).expect(1);
            held.prints(&["radio-no-worse   ✓ pass       marl/river                6.7 %  0.0 pts"]);
        }
    }
    assert_eq!(files, 4, "two versions exported, and accepted a baseline");
}

#[test]
fn a_bench_file_of_every_version_is_read_or_the_key_that_took_a_place_is_told() {
    for version in 1..TODAY {
        let folder = Folder::new();
        let mut bench = std::fs::read_to_string(stored().join(format!("v{version}/fonex.toml"))).unwrap();
        corpus(&folder, &[("radio-001", "hold", "radio")]);
        let dry = ["run", "recognisers", "--dry-run"];
        folder.write("fonex.toml", &bench);
        if bench.contains("at_once") {
            folder.fonex(&dry).expect(2).says(&["at_once", "it was renamed: write \"concurrency\""]);
            bench = bench.replace("at_once", "concurrency");
            folder.write("fonex.toml", &bench);
        }
        folder.fonex(&dry).expect(0).prints(&["marl/river"]);
    }
}

#[test]
fn a_store_of_a_version_to_come_is_left_as_it_is() {
    let (folder, _) = of_version(1);
    let path = folder.path().join(".fonex/runs.db");
    let database = rusqlite::Connection::open(&path).unwrap();
    database.pragma_update(None, "user_version", TODAY as i64 + 1).unwrap();
    drop(database);
    let before = std::fs::read(&path).unwrap();
    for command in [&["runs"][..], &["show", "1"], &["store", "check"], &["import", "x.jsonl"]] {
        std::fs::File::create(folder.path().join("x.jsonl")).unwrap().write_all(b"{}").unwrap();
        folder.fonex(command).expect(2);
    }
    folder.fonex(&["runs"]).expect(2).says(&["newer"]);
    assert_eq!(std::fs::read(&path).unwrap(), before);
}
