//! Trials that fail for the same reason again and again, failed trials that are made again, and a machine that has nothing left.

use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use serde_json::Value;

use crate::util::{Folder, corpus};

const CLIPS: [(&str, &str, &str); 8] = [
    ("a", "Hold at pylon six.", "radio"),
    ("b", "Cabin ready.", "radio"),
    ("c", "Hold at pylon six.", "radio"),
    ("d", "Cabin ready.", "radio"),
    ("e", "Hold at pylon six.", "help"),
    ("f", "Cabin ready.", "help"),
    ("g", "Hold at pylon six.", "help"),
    ("h", "Cabin ready.", "help"),
];

/// A recogniser whose token is good while there is a file, one that does not exist, and one that works.
fn bench(folder: &Folder) {
    corpus(folder, &CLIPS);
    folder.write(
        "fonex.toml",
        r#"corpus = "corpus.jsonl"
[engine.token]
transport = "command"
task = "hear"
stdin = "audio"
command = ["sh", "-c", "cat >/dev/null; [ -e token ] && exec echo hold; echo expired at $(date +%N) >&2; exit 4"]
outcomes = [{ exit_code = 4, outcome = "refused" }]
[engine.absent]
transport = "command"
task = "hear"
stdin = "audio"
command = ["./absent"]
[engine.fine]
transport = "command"
task = "hear"
stdin = "audio"
command = ["echo", "hold"]
[plan.p]
engines = ["token", "absent", "fine"]
[plan.patient]
engines = ["token"]
stop_after_refusals = 0
"#,
    );
}

fn outcomes(view: &Value, variant: usize) -> Vec<(String, u64)> {
    let counts = view["variants"][variant]["outcomes"].as_array().unwrap().iter();
    counts.map(|one| (one["outcome"].as_str().unwrap().to_owned(), one["trials"].as_u64().unwrap())).collect()
}

#[test]
fn a_variant_that_is_refused_again_and_again_stops_and_the_rest_goes_on() {
    let folder = Folder::new();
    bench(&folder);
    let run = folder.fonex(&["run", "p", "--label", "w1", "--format", "json"]).expect(3);
    let view: Value = run.json();
    assert_eq!(outcomes(&view, 0), [("refused".into(), 5)]);
    assert_eq!(outcomes(&view, 1), [("unreachable".into(), 5)]);
    assert_eq!(outcomes(&view, 2), [("done".into(), 8)]);
    assert_eq!(view["run"]["state"], "unfinished");
    // It is said when it happens, and first of all in the end.
    let said: Vec<&str> = run.err.lines().collect();
    let first =
        |part: &str| said.iter().position(|line| line.contains(part)).unwrap_or_else(|| panic!("{part}: {said:?}"));
    assert!(first("token is stopped: refused 5 times in a row") < first("trials were left out"), "{said:?}");
    assert!(first("trials were left out") < first("10 trials failed"), "{said:?}");

    // With the token renewed the failed trials are made again in the same run, with those that were left out.
    folder.write("token", "");
    let again = folder.fonex(&["run", "--failed", "w1", "--outcome", "refused", "--format", "json"]).expect(3);
    let view: Value = again.json();
    assert_eq!((view["run"]["id"].as_u64(), outcomes(&view, 0)), (Some(1), vec![("done".into(), 8)]));
    assert_eq!(outcomes(&view, 1), [("unreachable".into(), 8)], "these were left out, and tried now");
    assert_eq!(outcomes(&view, 2), [("done".into(), 8)], "nothing is done twice");
    let history = &view["made_again"];
    assert_eq!((history[0]["variant"].as_str(), history[0]["trials"].as_u64()), (Some("token"), Some(5)));
    assert_eq!(history[0]["outcome"], "refused");

    // The program is there now. The run ends, and what failed before is told and travels with it.
    folder.write("absent", "#!/bin/sh\necho hold\n");
    std::fs::set_permissions(folder.path().join("absent"), std::fs::Permissions::from_mode(0o755)).unwrap();
    folder.fonex(&["run", "--failed"]).expect(0).prints(&["made again after they failed", "absent unreachable 8"]);
    folder.fonex(&["run", "--failed"]).expect(0).says(&["Nothing to repeat: no trial of run 1 failed"]);
    folder.fonex(&["export", "1", "-o", "run.jsonl"]).expect(0);
    folder.fonex(&["store", "copy", ".", "copied"]).expect(0);
    folder.fonex(&["show", "1", "--store", "copied"]).expect(0).prints(&["token refused 5", "absent unreachable 8"]);
    folder.fonex(&["import", "run.jsonl", "--again"]).expect(0);
    folder.fonex(&["show", "2"]).expect(0).prints(&["token refused 5", "absent unreachable 8"]);
    folder.fonex(&["run", "--failed", "2"]).expect(0);
}

#[test]
fn a_plan_may_go_through_every_refusal_and_another_plan_is_not_mixed_in() {
    let folder = Folder::new();
    bench(&folder);
    let view: Value = folder.fonex(&["run", "patient", "--format", "json"]).expect(3).json();
    assert_eq!((outcomes(&view, 0), view["run"]["state"].as_str()), (vec![("refused".into(), 8)], Some("finished")));
    // A label that is taken is not silently doubled.
    folder.fonex(&["run", "patient", "--label", "w1"]).expect(3);
    folder
        .fonex(&["run", "patient", "--label", "w1"])
        .expect(2)
        .says(&["run 2 (plan patient) has the label", "--again"]);
    folder.fonex(&["run", "patient", "--label", "w1", "--again"]).expect(3);
    // Another corpus makes other trials.
    corpus(&folder, &CLIPS[..7]);
    folder.fonex(&["run", "--failed", "1"]).expect(2).says(&["have changed since run 1", "start a new run"]);
    folder.fonex(&["run", "--failed", "nope"]).expect(2).says(&["there is no run \"nope\""]);
    folder.fonex(&["run", "--failed", "1", "--outcome", "done"]).expect(2).says(&["expected one of unclear"]);
    folder.fonex(&["run", "patient", "--failed", "1"]).expect(2);
}

/// A user who may have few threads and processes: each trial waits until others have ended, warm-up trials too.
#[test]
fn a_run_ends_where_the_machine_has_few_threads_left() {
    let is_root = Command::new("id").arg("-u").output().is_ok_and(|output| output.stdout == b"0\n");
    if !is_root || Command::new("setpriv").arg("--version").output().is_err() {
        return;
    }
    let folder = Folder::new();
    corpus(&folder, &CLIPS);
    folder.write(
        "fonex.toml",
        "corpus = \"corpus.jsonl\"\n[engine.slow]\ntransport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\n\
         command = [\"sh\", \"-c\", \"cat >/dev/null; sleep 0.1; echo hold\"]\n\
         [plan.p]\nengines = [\"slow\"]\nrepeats = 5\nconcurrency = 40\nwarm_up = 20\n",
    );
    // A user that nobody else is, who may read the program and write here.
    let program = folder.path().join("fonex");
    std::fs::copy(env!("CARGO_BIN_EXE_fonex"), &program).unwrap();
    assert!(Command::new("chmod").args(["-R", "a+rwX"]).arg(folder.path()).status().unwrap().success());
    let user = (60_000 + std::process::id() % 5_000).to_string();
    let output = Command::new("setpriv")
        .args([
            "--reuid",
            &user,
            "--regid",
            &user,
            "--clear-groups",
            "sh",
            "-c",
            "ulimit -u 60; exec ./fonex run p --format json",
        ])
        .current_dir(folder.path())
        .env("HOME", folder.path())
        .env_remove("FONEX_STORE")
        .output()
        .unwrap();
    let run = folder.done(&["run", "p"], output).expect(0);
    let view: Value = run.json();
    assert_eq!(outcomes(&view, 0), [("done".into(), 40)]);
}
