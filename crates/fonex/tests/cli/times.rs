//! Times: captions in and out, units and jumps told, live delivery, windows, load and turns on the demo's own clips.

use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use serde_json::Value;

use crate::util::{Done, Folder, a_moment};

/// A corpus of one recording and what was heard of it, `late_ms` and `factor` off in time.
fn recording(folder: &Folder, late_ms: f64, drift: f64, factor: f64) {
    let words = ["Hold", "at", "pylon", "six.", "The", "wind", "is", "rising", "now."];
    let at = |i: usize| 0.5 + i as f64 * 0.45 + if i > 3 { 0.9 } else { 0.0 };
    let line = |place: &dyn Fn(f64) -> f64| -> String {
        let timed = |(i, text): (usize, &&str)| serde_json::json!({"text": text, "start": place(at(i)), "end": place(at(i) + 0.4)});
        let words: Vec<Value> = words.iter().enumerate().map(timed).collect();
        serde_json::json!({"id": "talk", "text": "Hold at pylon six. The wind is rising now.", "words": words})
            .to_string()
    };
    folder.write("corpus.jsonl", line(&|s| s) + "\n");
    folder.write("heard.jsonl", line(&|s| (s * (1.0 + drift) + late_ms / 1e3) * factor) + "\n");
}

#[test]
fn captions_are_cut_corrected_written_and_checked() {
    let folder = Folder::new();
    recording(&folder, 400.0, 0.0, 1.0);
    let raw = folder.fonex(&["captions", "write", "heard.jsonl", "--to", "srt"]).expect(0);
    raw.prints(&["1\n00:00:00,900 --> ", "Hold at pylon six.\n\n2\n00:00:03,600 --> ", "The wind is rising now."]);
    let corrected = ["captions", "write", "heard.jsonl", "--correct-by", "corpus.jsonl", "-o", "talk.vtt"];
    folder.fonex(&corrected).expect(0).says(&["Corrected by −400 ms"]);
    let vtt = folder.read("talk.vtt");
    assert!(vtt.starts_with("WEBVTT\n\n00:00:00.500 --> ") && vtt.contains("Hold <00:00:00.950>at"), "{vtt}");
    let check = ["captions", "check", "talk.vtt", "--against", "corpus.jsonl", "--strict", "--format", "json"];
    let checked: Value = folder.fonex(&check).expect(0).json();
    assert_eq!((&checked[0]["captions"], &checked[0]["score"]["words"]["wer"]), (&2.into(), &0.0.into()));
    assert_eq!(checked[0]["score"]["timing"]["start"]["within_20ms"], 1.0);
    folder.write("bad.srt", "1\n00:00:01,000 --> 00:00:01,200\nfar too much text to be read in so short a time\n\n");
    let bad = folder.fonex(&["captions", "check", "bad.srt", "--strict"]).expect(1);
    bad.prints(&["too fast to read", "stands too short", "line too long"]);
    folder.fonex(&["captions", "write", "heard.jsonl", "--clip", "tolk"]).expect(2).says(&["write \"talk\""]);
    folder.write("bare.jsonl", "{\"id\":\"talk\",\"text\":\"hold\"}\n");
    folder.fonex(&["captions", "write", "bare.jsonl"]).expect(2).says(&["no result in bare.jsonl has times"]);
    folder.write("empty.srt", "nothing here\n");
    let forged = "stop\n\n2\n00:00:00,000 --> 00:00:09,000\nforged\u{1b}[2J";
    let line = serde_json::json!({"id": "talk", "text": "stop", "words": [
        {"text": forged, "start": 0.5, "end": 0.8}, {"text": "now", "start": 1.0, "end": 1.2},
    ]});
    folder.write("forged.jsonl", format!("{line}\n"));
    for form in ["srt", "vtt", "text"] {
        let written = folder.fonex(&["captions", "write", "forged.jsonl", "--to", form]).expect(0).out;
        assert!(!written.contains('\u{1b}') && !written.contains("\n2\n00:00:00"), "{written}");
    }
    folder.fonex(&["captions", "check", "empty.srt"]).expect(2).says(&["holds no caption"]);
}

#[test]
fn another_unit_and_made_up_times_are_told() {
    let folder = Folder::new();
    recording(&folder, 0.0, 0.0, 1_000.0);
    let page = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(0);
    page.prints(&["look like milliseconds, not seconds"]);
    let segments = r#"{"id":"talk","text":"Hold at pylon six. The wind is rising now.","segments":[{"text":"Hold at pylon six.","start":0.5,"end":2.25},{"text":"The wind is rising now.","start":3.2,"end":5.4}]}"#;
    folder.write("heard.jsonl", format!("{segments}\n"));
    let score = ["score", "corpus.jsonl", "heard.jsonl", "--format", "json"];
    let scored: Value = folder.fonex(&score).expect(0).json();
    assert_eq!(scored["timing"]["faults"]["interpolated_clips"], 1);
    assert_eq!(scored["timing"]["words"], 9);
}

#[test]
fn a_slice_whose_words_are_late_is_shown_and_others_are_not() {
    let folder = Folder::new();
    let line = |id: &str, tags: &str, late_s: f64| {
        let word = |(at, text): (usize, &str)| {
            let start = at as f64 * 0.5 + 0.3 + late_s;
            format!("{{\"text\":\"{text}\",\"start\":{start},\"end\":{}}}", start + 0.3)
        };
        let words: Vec<String> = "hold at pylon six".split(' ').enumerate().map(word).collect();
        format!("{{\"id\":\"{id}\",\"text\":\"hold at pylon six\"{tags},\"words\":[{}]}}\n", words.join(","))
    };
    let ids: Vec<(String, &str, f64)> = (0..24)
        .map(|i| if i < 16 { (format!("c{i}"), "desk", 0.0) } else { (format!("c{i}"), "radio", 0.25) })
        .collect();
    let corpus: String = ids
        .iter()
        .map(|(id, channel, _)| line(id, &format!(",\"tags\":{{\"channel\":\"{channel}\"}}"), 0.0))
        .collect();
    let heard: String = ids.iter().map(|(id, _, late_s)| line(id, "", *late_s)).collect();
    folder.write("corpus.jsonl", corpus);
    folder.write("heard.jsonl", heard);
    let page = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--all"]).expect(0);
    page.prints(&["Slices that differ from the rest", "channel=radio  word start, median", "250 ms [250, 250]"]);
    let scored: Value = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"]).expect(0).json();
    let slice =
        |value: &str| scored["slices"].as_array().unwrap().iter().find(|s| s["value"] == value).unwrap().clone();
    assert_eq!(slice("desk")["start"]["within_20ms"], 1.0, "JSON has every slice");
    assert!((slice("radio")["start"]["median_ms"].as_f64().unwrap() - 250.0).abs() < 1e-6);
}

/// The demo's folder with its services running on a port of their own.
struct Served {
    folder: Folder,
    service: Child,
    port: u16,
}

impl Drop for Served {
    fn drop(&mut self) {
        drop(self.service.kill());
        drop(self.service.wait());
    }
}

impl Served {
    fn start() -> Self {
        let folder = Folder::new();
        copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/shipped"), folder.path());
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let port_typed = port.to_string();
        let service = folder.start(&["standin", "serve", "--port", &port_typed, "--key-from", "FONEX_DEMO_KEY"]);
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            a_moment();
        }
        Self { folder, service, port }
    }

    fn arguments(&self, typed: &[&str]) -> Vec<String> {
        let mut all: Vec<String> = typed.iter().map(|word| (*word).to_owned()).collect();
        all.extend(["--bench".to_owned(), "services.toml".to_owned()]);
        for engine in ["marl", "tern", "osier", "quill"] {
            all.extend(["--set".to_owned(), format!("engine.{engine}.settings.port={}", self.port)]);
        }
        all
    }

    fn run(&self, typed: &[&str]) -> Done {
        let all = match typed[0] {
            // These do not ask anybody.
            "report" | "runs" => {
                [typed, &["--bench", "services.toml"]].concat().into_iter().map(str::to_owned).collect()
            }
            _ => self.arguments(typed),
        };
        self.folder.fonex(&all.iter().map(String::as_str).collect::<Vec<_>>())
    }

    fn json(&self, typed: &[&str]) -> Value {
        self.run(&[typed, &["--format", "json"]].concat()).expect(0).json()
    }
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap().map(Result::unwrap) {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), &target).unwrap();
        }
    }
}

#[test]
fn live_delivery_and_windows_on_the_demo() {
    let served = Served::start();
    let tried = served.json(&["try", "tern", "radio-006", "--live", "--speed", "8"]);
    let live = &tried["traffic"]["live"];
    assert_eq!((&live["events"][0]["what"], &live["speed"]), (&"ready".into(), &8.0.into()));
    assert!(live["pacing"]["frames"].as_u64().unwrap() > 20, "{live}");
    let shown = live["events"].as_array().unwrap().iter().filter(|event| event["what"] == "interim").count();
    assert!(shown > 0, "{live}");

    // A microphone on standard input, in which nobody speaks.
    let arguments = served.arguments(&["try", "tern", "-", "--wait", "0.3", "--frame-ms", "50"]);
    let mut child = Command::new(env!("CARGO_BIN_EXE_fonex"))
        .args(arguments)
        .current_dir(served.folder.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut microphone = child.stdin.take().unwrap();
    microphone.write_all(&[0; 64_000]).unwrap();
    let output = child.wait_with_output().unwrap();
    drop(microphone);
    let page = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(page.contains("late") && page.contains("no word within the wait"), "{page}");

    let windows =
        served.json(&["windows", "windows", "-o", "windows.svg", "--set", "plan.windows.select.id=radio-004"]);
    assert_eq!((&windows["run"], &windows["finished"]), (&1.into(), &true.into()));
    let windows = windows["windows"].as_array().unwrap();
    assert_eq!(windows.len(), 4);
    let delay = |name: &str| {
        let found = windows.iter().find(|window| window["delivery"] == name).unwrap();
        found["delay_ms"]["p50"].as_f64().unwrap()
    };
    assert!(delay("pieces=1s") < delay("whole"), "a short window is sooner there: {windows:?}");
    assert!(served.folder.read("windows.svg").starts_with("<svg"));

    let live = served.json(&["run", "live", "--set", "plan.live.delivery={ live = { speed = 8 } }"]);
    let slices = &live["variants"][0]["slices"];
    let of_wind = slices.as_array().unwrap().iter().filter(|slice| slice["by"] == "wind");
    let settled = |of: &Value| of["measures"]["live_settled_p50"]["clips"].as_u64().unwrap();
    let clips: u64 = of_wind.clone().map(settled).sum();
    assert!(of_wind.count() > 1 && clips == settled(&live["variants"][0]), "{slices}");
}

#[test]
fn load_and_turns_on_the_demo() {
    let served = Served::start();
    let load = served.json(&["load", "load", "--rate", "4", "--seconds", "1", "-o", "load.svg"]);
    let step = &load[0]["steps"][0];
    assert!(step["requests"].as_u64().unwrap() > 0 && step["failed"] == 0, "{step}");
    assert!(step["client_late_ms"]["p50"].as_f64().unwrap() < 500.0, "{step}");
    // A port on which nobody listens.
    let nowhere = "engine.marl.request.url=\"http://127.0.0.1:1/hear\"";
    served
        .run(&["load", "load", "--rate", "4", "--seconds", "1", "--set", nowhere])
        .expect(0)
        .says(&["4 requests, 4 failed (4 unreachable), no answer"]);

    let turns = served.json(&[
        "turns",
        "radio-001",
        "--hear",
        "tern",
        "--reply",
        "quill",
        "--speak",
        "osier",
        "-o",
        "turns.svg",
    ]);
    let turn = &turns["turns"][0];
    let part = |name: &str| turn[name].as_f64().unwrap();
    assert!(
        part("hear_ms") > 0.0 && part("reply_ms") >= part("reply_first_ms") && part("speak_first_ms") > 0.0,
        "{turn}"
    );
    assert_eq!(turns["summary"]["turns"], 1);
    assert_eq!(turns["turns"][0].get("dialogue"), None);

    // A dialogue whose replies are interrupted; kept, printed again and put on a page with the load.
    let chain = ["--hear", "tern", "--reply", "quill", "--speak", "osier"];
    let short = "dialogue.last-cabin.turns=[\"help-001\", \"help-009\"]";
    let typed =
        [&["turns", "--dialogue", "last-cabin", "--interrupt-after", "0.3", "--set", short][..], &chain].concat();
    let held = served.json(&typed);
    let turns = held["turns"].as_array().unwrap();
    assert_eq!(turns.iter().map(|turn| turn["position"].as_u64().unwrap()).collect::<Vec<_>>(), [1, 2]);
    assert_eq!(held["summary"]["positions"].as_array().unwrap().len(), 2);
    let interruptions = held["interruptions"].as_array().unwrap();
    assert_eq!(interruptions.len(), 2, "{held}");
    for interruption in interruptions {
        // The stand-in shows a word once it has heard it whole, so not before its labelled beginning.
        let of = |name: &str| interruption[name].as_f64().unwrap();
        assert!(
            of("noticed_ms") > 0.0 && of("into_reply_ms") >= 300.0 && of("reply_left_ms") > 0.0,
            "{interruption}"
        );
    }
    let again = served.json(&["turns", "--study", "last"]);
    assert_eq!(again, held, "a kept study is printed as it was");
    let short_windows = ["--set", "plan.windows.select.id=radio-004"];
    served.run(&[&["run", "windows"][..], &short_windows].concat()).expect(0);
    served.run(&["report", "1", "--load", "--turns", "-o", "report.html"]).expect(0);
    let page = served.folder.read("report.html");
    for title in ["Error rate against delay", "Waiting under load", "From end of speech to first sound"] {
        assert!(page.contains(title), "{title}");
    }
    served.run(&["runs"]).expect(0).prints(&["fonex runs --studies"]);
    served.run(&["runs", "--studies"]).expect(0).prints(&["turns", "load"]);
    served.run(&["load", "--study", "99"]).expect(2).says(&["no study of load with the number 99"]);
    served.run(&[&["turns", "--dialogue", "last"][..], &chain].concat()).expect(2).says(&["no dialogue \"last\""]);
    served
        .run(&[&["turns", "radio-001", "--interrupt-after", "1", "--hear", "marl"][..], &chain[2..]].concat())
        .expect(2)
        .says(&["marl cannot hear live audio"]);
    served.run(&[&["turns", "radio-0"][..], &chain].concat()).expect(2).says(&["no clip \"radio-0\""]);
}
