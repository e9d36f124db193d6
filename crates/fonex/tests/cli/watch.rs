//! A run followed as it goes: once, on a page, in a browser.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::Child;
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::browser::Browser;
use crate::util::{Folder, PATIENCE, corpus, program_is_there};

/// Two recognisers; one fails on every clip and says something hostile.
fn world() -> Folder {
    let folder = Folder::new();
    let ids: Vec<String> = (0..24).map(|at| format!("c{at:02}")).collect();
    corpus(&folder, &ids.iter().map(|id| (id.as_str(), "hold at pylon six", "radio")).collect::<Vec<_>>());
    let engine = |name: &str, command: &str| {
        format!("[engine.{name}]\ntransport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\ncommand = {command}\n")
    };
    let bench = format!(
        "corpus = \"corpus.jsonl\"\n{}{}[plan.p]\nengines = [\"good\", \"bad\"]\nwarm_up = 1\n",
        engine("good", "[\"echo\", \"hold at six <b>now</b>\"]"),
        engine("bad", "[\"sh\", \"-c\", \"echo '</td><script>window.hacked=1</script>' >&2; exit 3\"]"),
    );
    folder.write("fonex.toml", bench);
    folder
}

/// An engine that answers only once the file `slow` is gone.
const SLOW: &str =
    "engine.good.command=[\"sh\", \"-c\", \"echo 'hold at six <b>now</b>'; while [ -e slow ]; do sleep 0.01; done\"]";

struct Watching {
    child: Child,
    address: String,
}

impl Watching {
    fn start(folder: &Folder, arguments: &[&str]) -> Self {
        let mut child = folder.start(arguments);
        let mut line = String::new();
        BufReader::new(child.stderr.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.split("http://").nth(1).unwrap_or_else(|| panic!("{line}"));
        Self { child, address: address.split('/').next().unwrap().to_owned() }
    }

    /// The status and the body of an answer.
    fn get(&self, request: &str, host: &str) -> (u16, String) {
        let mut stream = TcpStream::connect(&self.address).unwrap();
        write!(stream, "{request} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        let (head, body) = answer.split_once("\r\n\r\n").unwrap();
        (head.split(' ').nth(1).unwrap().parse().unwrap(), body.to_owned())
    }

    fn state(&self) -> Value {
        serde_json::from_str(&self.get("GET /state", &self.address).1).unwrap()
    }

    /// Asks until something holds of what is told.
    fn wait(&self, holds: impl Fn(&Value) -> bool) -> Value {
        let begun = Instant::now();
        loop {
            let state = self.state();
            if holds(&state) {
                return state;
            }
            assert!(begun.elapsed() < PATIENCE, "it never came to hold: {state}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        drop(self.child.kill());
        drop(self.child.wait());
    }
}

#[test]
fn a_run_is_told_as_far_as_it_has_come() {
    let folder = world();
    folder.fonex(&["watch", "--once"]).expect(2).says(&["no run"]);
    folder.fonex(&["run", "p", "--label", "first"]).expect(3);
    let seen: Value = folder.fonex(&["watch", "first", "--once", "--format", "json"]).expect(0).json();
    assert_eq!((&seen["run"], &seen["state"], &seen["planned"]), (&1.into(), &"finished".into(), &48.into()));
    assert_eq!((&seen["done"], &seen["failed"], &seen["warm_up"]), (&48.into(), &24.into(), &2.into()));
    assert!(seen.get("left_s").is_none() && seen.get("per_second").is_none(), "nothing is left: {seen}");
    let good = &seen["variants"][0];
    assert_eq!(good["outcomes"], serde_json::json!([{ "outcome": "done", "trials": 24 }]));
    // The same figure as that of the whole run: two of four words, one of them for another and one too many.
    let shown: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    let wer = &shown["variants"][0]["measures"]["wer"];
    assert_eq!((&good["figures"][0]["measure"], &good["figures"][0]["value"]), (&"wer".into(), &wer["value"]));
    assert_eq!(good["figures"][0]["interval"], wer["interval"]);
    assert_eq!(good["latest_ms"].as_array().unwrap().len(), 24);
    assert_eq!(seen["recent"].as_array().unwrap().len(), 14);
    folder.fonex(&["watch", "1", "--once"]).expect(0).prints(&[
        "Run 1 (first), plan p",
        "finished: 48 of 48 trials, 24 without an answer",
        "24 broken",
    ]);
    folder.fonex(&["watch", "1", "--once", "--format", "csv"]).expect(0).prints(&["variant,trials,outcomes,wer"]);
    folder.fonex(&["watch", "frist", "--once"]).expect(2).says(&["first"]);
    folder.fonex(&["watch", "--format", "json"]).expect(2).says(&["--once"]);
    folder.fonex(&["watch", "--terminal"]).expect(2).says(&["no terminal"]);
}

#[test]
fn a_page_follows_the_newest_run() {
    let folder = world();
    folder.fonex(&["run", "p", "--label", "old"]).expect(3);
    let watching = Watching::start(&folder, &["watch"]);
    watching.wait(|state| state["run"] == 1 && state["state"] == "finished");
    folder.write("slow", "");
    let mut run = folder.start(&["run", "p", "--label", "new", "--set", SLOW]);
    watching.wait(|state| state["run"] == 2 && state["state"] == "going_on");
    std::fs::remove_file(folder.path().join("slow")).unwrap();
    run.wait().unwrap();
    let last = watching.wait(|state| state["run"] == 2 && state["state"] == "finished");
    assert_eq!((&last["done"], &last["planned"]), (&48.into(), &48.into()));
    assert!(last["in_words"].as_str().unwrap().contains("24 without an answer"));
    // Only by its own address, only to be read, and nothing else of this machine.
    let own = watching.address.clone();
    let page = watching.get("GET /", &own);
    assert!(page.0 == 200 && page.1.contains("</html>"));
    assert_eq!(watching.get("GET /state", "elsewhere.example").0, 403);
    assert_eq!(watching.get("POST /state", &own).0, 405);
    assert_eq!(watching.get("GET /../../etc/passwd", &own).0, 404);
    assert_eq!(watching.get("GET /favicon.ico", &own).0, 204, "browsers ask for it");
    assert_eq!(page.1.matches("class=\"scroll\" tabindex=\"0\"").count(), 2, "what scrolls is reached by keyboard");
    let port = own.rsplit(':').next().unwrap();
    folder.fonex(&["watch", "--port", port]).expect(2).says(&["cannot be used", "--port"]);
    if !program_is_there("chromium") {
        return;
    }
    let mut browser = Browser::at(&format!("http://{own}/"));
    browser.wait("document.getElementById('state').textContent.startsWith('finished')");
    assert_eq!(browser.value("document.getElementById('name').textContent"), "Run 2 (new), plan p");
    assert!(
        browser.value("document.getElementById('recent').textContent").as_str().unwrap().contains("window.hacked")
    );
    assert_eq!(browser.value("[window.hacked ?? 0, document.scripts.length]"), serde_json::json!([0, 1]));
    for (width, dark) in [(1_280, false), (400, true)] {
        browser.looks(width, dark);
        browser.accessible();
    }
    drop(watching);
    browser.wait("!document.getElementById('gone').hidden");
}

#[test]
fn a_run_that_was_stopped_says_how_to_go_on() {
    let folder = world();
    folder.write("slow", "");
    let watching = Watching::start(&folder, &["watch"]);
    assert_eq!(watching.state(), serde_json::json!({}), "there is no run yet");
    let mut run = folder.start(&["run", "p", "--set", SLOW]);
    watching.wait(|state| state["run"] == 1 && state["state"] == "going_on");
    run.kill().unwrap();
    run.wait().unwrap();
    let stopped = watching.wait(|state| state["state"] == "stopped");
    assert!(stopped["in_words"].as_str().unwrap().contains("fonex run resumes it"));
    std::fs::remove_file(folder.path().join("slow")).unwrap();
}
