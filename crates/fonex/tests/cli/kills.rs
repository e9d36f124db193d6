//! Killed or told to end at any moment, with programs running: nothing is lost or doubled, and neither a process nor a file is left.

use std::collections::HashSet;
use std::process::{Child, Command};
use std::time::Instant;

use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

use crate::util::{Folder, PATIENCE, a_moment, corpus, share_sound};

/// Kills of each kind; FONEX_KILLS=200 is the longer form of docs/reliability.md.
fn kills() -> u32 {
    std::env::var("FONEX_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(24)
}

/// Whether a control group can be had here, out of which nothing gets.
fn has_control_groups() -> bool {
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let own = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let mounted = mounts.lines().find(|line| line.contains(" - cgroup2 ")).and_then(|line| line.split(' ').nth(4));
    let (Some(mounted), Some(own)) = (mounted, own.lines().find_map(|line| line.strip_prefix("0::/"))) else {
        return false;
    };
    let folder = std::path::Path::new(mounted).join(own).join(format!("test-{}", std::process::id()));
    let can = std::fs::create_dir(&folder).is_ok() && folder.join("cgroup.kill").exists();
    let _ = std::fs::remove_dir(folder);
    can
}

/// A program and a worker that each leave helpers behind: in their group, in a session of their own, without an environment, and,
/// where there are control groups, in a session of their own without an environment.
fn bench(folder: &Folder, mark: &str) {
    let clips: Vec<(String, &str, &str)> =
        (0..40).map(|i| (format!("c{i}"), "Hold at pylon six.", "radio")).collect();
    let clips: Vec<(&str, &str, &str)> =
        clips.iter().map(|(id, text, channel)| (id.as_str(), *text, *channel)).collect();
    corpus(folder, &clips);
    share_sound(folder, 0.25);
    // A length that no other process sleeps: a mark also where the environment is taken away.
    let length = format!("600.{}", std::process::id());
    let hidden = if has_control_groups() { format!("env -i setsid sleep {length} &") } else { String::new() };
    let helpers = format!("sleep {length} & setsid sleep {length} & env -i sleep {length} & {hidden}");
    let program = format!("{helpers} sleep 0.03; echo hold at pylon six");
    let worker = format!(
        "{helpers} echo \"{{\\\"ready\\\":1}}\"; while read -r line; do id=${{line##*\\\"id\\\":}}; id=${{id%%[,\\}}]*}}; \
         sleep 0.03; echo \"{{\\\"id\\\":$id,\\\"text\\\":\\\"hold\\\"}}\"; done"
    );
    folder.write("worker.sh", worker);
    folder.write("program.sh", program);
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n\
             [engine.program]\ntransport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\ncommand = [\"sh\", \"program.sh\"]\nenv = {{ MARK = \"{mark}\" }}\n\
             [engine.worker]\ntransport = \"worker\"\ntask = \"hear\"\ncommand = [\"sh\", \"worker.sh\"]\nenv = {{ MARK = \"{mark}\" }}\n\
             [plan.p]\nengines = [\"program\", \"worker\"]\nrepeats = 10\nconcurrency = 4\n"
        ),
    );
}

/// Processes that carry the mark, with their names.
fn marked(mark: &str) -> Vec<String> {
    let length = format!("600.{}", std::process::id());
    let carries = |path: std::path::PathBuf| {
        let environment = std::fs::read(path.join("environ")).ok()?;
        let command = std::fs::read_to_string(path.join("cmdline")).unwrap_or_default();
        let found = environment.windows(mark.len()).any(|window| window == mark.as_bytes());
        (found || command.contains(&length)).then_some(command)
    };
    std::fs::read_dir("/proc").unwrap().flatten().filter_map(|entry| carries(entry.path())).collect()
}

/// Waits until none is left; on a busy machine one that was told to die may not have got to it yet.
fn none_left(mark: &str, after: &str) {
    let started = Instant::now();
    loop {
        let left = marked(mark);
        if left.is_empty() {
            return;
        }
        assert!(started.elapsed() < PATIENCE, "after {after}: {left:?}");
        a_moment();
    }
}

fn stored(folder: &Folder) -> HashSet<(i64, String, i64)> {
    let path = folder.path().join(".fonex/runs.db");
    let Ok(connection) = rusqlite::Connection::open(path) else {
        return HashSet::new();
    };
    let Ok(mut select) = connection.prepare("select variant, clip_id, repeat from trials where warm_up = 0") else {
        return HashSet::new();
    };
    let rows: Vec<_> = select
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    let all: HashSet<_> = rows.iter().cloned().collect();
    assert_eq!(all.len(), rows.len(), "nothing is there twice");
    all
}

fn signal(child: &Child, name: &str) {
    assert!(Command::new("kill").args([name, &child.id().to_string()]).status().unwrap().success());
}

#[test]
fn whatever_ends_it_nothing_is_lost_and_nothing_is_left() {
    let folder = Folder::new();
    let mark = format!("fonex-test-{}-{:p}", std::process::id(), &raw const folder);
    bench(&folder, &mark);
    let temporary = folder.path().join("tmp");
    std::fs::create_dir(&temporary).unwrap();
    let mut random = Pcg64Mcg::seed_from_u64(5);
    let mut before = HashSet::new();
    let ends = ["-KILL", "-HUP", "-TERM", "-INT", "-INT -INT"];
    for turn in 0..kills() * 5 / 4 {
        // Four in five are kills that nobody can hear.
        let end = if turn % 5 < 4 { ends[0] } else { ends[random.random_range(1..ends.len())] };
        let mut child = folder.start_in(&["run", "p"], &[("TMPDIR", temporary.to_str().unwrap())]);
        // Some before anything runs, the others once so many programs do.
        let wanted = random.random_range(0..6);
        while marked(&mark).len() < wanted && child.try_wait().unwrap().is_none() {}
        for name in end.split(' ') {
            signal(&child, name);
        }
        let code = child.wait().unwrap().code();
        assert!(
            if end == "-KILL" { code.is_none() } else { code == Some(130) || code.is_none() && wanted == 0 },
            "{end}: {code:?}"
        );
        none_left(&mark, end);
        let now = stored(&folder);
        assert!(before.is_subset(&now), "what was stored stays");
        before = now;
    }
    assert!(!before.is_empty(), "some trials were stored before a kill");
    let done =
        folder.start_in(&["run", "p", "--set", "plan.p.concurrency=16"], &[("TMPDIR", temporary.to_str().unwrap())]);
    let done = folder.done(&["run", "p"], done.wait_with_output().unwrap());
    done.expect(0);
    assert_eq!(stored(&folder).len(), 40 * 2 * 10);
    none_left(&mark, "the end");
    let mut left: Vec<_> = std::fs::read_dir(folder.path().join(".fonex"))
        .unwrap()
        .chain(std::fs::read_dir(&temporary).unwrap())
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    left.sort();
    assert_eq!(left, ["runs.db", "runs.lock"]);
}
