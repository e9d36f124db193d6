//! Disks that are full or may only be read: what is kept stays, what is there is read, and what to do is said.

use std::process::{Command, Output};

use crate::util::{Done, Folder, corpus};

/// Eighty clips, heard so many times, and spoken once.
fn bench(folder: &Folder, repeats: u32) {
    let clips: Vec<(String, String)> =
        (0..80).map(|i| (format!("c{i}"), format!("Cabin {i}, hold at pylon {i}."))).collect();
    let clips: Vec<(&str, &str, &str)> =
        clips.iter().map(|(id, text)| (id.as_str(), text.as_str(), "radio")).collect();
    corpus(folder, &clips);
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\nbehaviour.default = {{ start_ms = 0, rtf = 0 }}\n\
             [engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\nvoices = [\"Ilka\"]\nbehaviour.Ilka = {{ start_ms = 0, rtf = 0 }}\n\
             [plan.p]\nengines = [\"marl\"]\nrepeats = {repeats}\nconcurrency = 2\n[plan.speak]\nengines = [\"osier\"]\n"
        ),
    );
}

/// A script in a mount namespace of its own, where `$fonex` is the program; none where this machine gives no such namespace.
fn apart(folder: &Folder, script: &str) -> Option<Done> {
    let able = Command::new("unshare").args(["-m", "true"]).output().is_ok_and(|tried| tried.status.success());
    if !able {
        // Only root, or who may make namespaces, can mount; elsewhere there is nothing to try this on.
        return None;
    }
    let output: Output = Command::new("unshare")
        .args(["-m", "sh", "-ec", script])
        .env("fonex", env!("CARGO_BIN_EXE_fonex"))
        .current_dir(folder.path())
        .output()
        .unwrap();
    Some(folder.done(&[script], output))
}

#[test]
fn a_full_disk_keeps_what_is_done_is_read_and_gone_on_with() {
    for (plan, trials) in [("p", 3_200), ("speak", 80)] {
        let folder = Folder::new();
        bench(&folder, 40);
        let script = format!(
            "mkdir .fonex; mount -t tmpfs -o size=500k none .fonex\n\
             code=0; \"$fonex\" run {plan} --label first || code=$?; echo \"code $code\"\n\
             \"$fonex\" runs; \"$fonex\" show first; \"$fonex\" report first -o page.html\n\
             ls .fonex .fonex/audio 2>/dev/null | grep tmp && echo 'a half file is left'\n\
             mount -o remount,size=512m .fonex\n\
             \"$fonex\" run {plan} --label first; \"$fonex\" show first --format json > view.json"
        );
        let Some(done) = apart(&folder, &script) else { return };
        let done = done.expect(0).prints(&["code 2", "unfinished", "finished"]);
        let done = done.says(&["free some space", "were done before"]);
        assert!(!done.out.contains("a half file is left"), "{}", done.out);
        assert!(folder.read("page.html").contains("</html>"));
        let view: serde_json::Value = serde_json::from_str(&folder.read("view.json")).unwrap();
        assert_eq!(view["variants"][0]["trials"], trials, "{plan}");
    }
}

#[test]
fn a_place_that_may_only_be_read_is_read() {
    let folder = Folder::new();
    bench(&folder, 1);
    folder.fonex(&["run", "p", "--label", "first"]).expect(0);
    // One that was killed leaves trials in the log beside the database.
    let mut child = folder.start(&["run", "p", "--label", "second", "--set", "plan.p.repeats=500"]);
    while !std::fs::metadata(folder.path().join(".fonex/runs.db-wal")).is_ok_and(|log| log.len() > 100_000) {
        assert!(child.try_wait().unwrap().is_none());
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let script = "mount --bind . . ; mount -o remount,ro,bind . ; cd .\n\
                  touch here 2>/dev/null && exit 9\n\
                  for command in runs 'show first' 'show second' 'compare first second' 'trend --unfinished' 'corpus describe corpus.jsonl' 'engine list'; do\n\
                  \"$fonex\" $command > /tmp/fonex-read-only-$$ || { echo \"failed: $command\"; exit 8; }; done; \"$fonex\" runs; rm /tmp/fonex-read-only-$$\n\
                  code=0; \"$fonex\" run p || code=$?; echo \"code $code\"";
    let Some(done) = apart(&folder, script) else { return };
    done.expect(0).prints(&["first", "second", "unfinished", "code 2"]).says(&["is writable"]);
}

#[test]
fn a_limit_on_the_size_of_files_ends_with_a_message() {
    let folder = Folder::new();
    bench(&folder, 100);
    let script = format!("ulimit -f 400; exec {} run p", env!("CARGO_BIN_EXE_fonex"));
    let output = Command::new("sh").args(["-c", &script]).current_dir(folder.path()).output().unwrap();
    folder.done(&[&script], output).expect(2).says(&["no space left", "raise the file size limit"]);
    folder.fonex(&["show"]).expect(0).prints(&["unfinished"]);
    folder.fonex(&["run", "p"]).expect(0);
}

#[test]
fn a_temporary_folder_that_cannot_be_used_is_no_interruption() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    let engine = "[engine.e]\ntransport = \"command\"\ntask = \"hear\"\ncommand = [\"cat\", \"{audio}\"]\n";
    folder.write("fonex.toml", format!("corpus = \"corpus.jsonl\"\n{engine}[plan.p]\nengines = [\"e\"]\n"));
    folder.write("taken", "a file");
    let environment = [("TMPDIR", folder.path().join("taken").to_str().unwrap().to_owned())];
    let environment = environment.each_ref().map(|(name, value)| (*name, value.as_str()));
    folder
        .fonex_in(&["try", "e", "audio/any.wav"], &environment)
        .expect(3)
        .prints(&["no temporary file can be written in"]);
}
