//! Gates: builds of known worth, held against limits, runs and baseline files.

use serde_json::{Value, json};

use crate::util::{Folder, corpus};

const WORDS: [&str; 10] = ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten"];

/// 300 clips of ten words, a third of them radio calls.
fn world(limits: &str) -> Folder {
    let folder = Folder::new();
    let text = WORDS.join(" ");
    let ids: Vec<String> = (0..300).map(|clip| format!("c{clip:03}")).collect();
    let clips: Vec<(&str, &str, &str)> = (0..300)
        .map(|clip| (ids[clip].as_str(), text.as_str(), if clip % 3 == 0 { "radio" } else { "phone" }))
        .collect();
    corpus(&folder, &clips);
    gate(&folder, limits);
    folder
}

fn gate(folder: &Folder, limits: &str) {
    let bench = "corpus = \"corpus.jsonl\"\n[engine.ear]\ntransport = \"recorded\"\ntask = \"hear\"\n\
                 results = \"r.jsonl\"\n[plan.all]\nengines = [\"ear\"]\n[plan.other]\nengines = [\"ear\"]\n";
    folder.write("fonex.toml", format!("{bench}[gate]\nbaseline = \"base.jsonl\"\n{limits}"));
}

/// A run in which so many words of each clip are wrong.
fn build(folder: &Folder, label: &str, wrong: impl Fn(usize) -> usize) {
    let lines: String = (0..300)
        .map(|clip| {
            let words: Vec<&str> =
                WORDS.iter().enumerate().map(|(at, word)| if at < wrong(clip) { "wrong" } else { word }).collect();
            json!({"id": format!("c{clip:03}"), "text": words.join(" ")}).to_string() + "\n"
        })
        .collect();
    folder.write("r.jsonl", lines);
    folder.fonex(&["run", "all", "--label", label]).expect(0);
}

fn usual(clip: usize) -> usize {
    clip % 2
}

const LIMITS: &str = "[gate.limit.whole]\nmeasure = \"wer\"\nworse_by_at_most = 0.02\n\
                      [gate.limit.radio]\nmeasure = \"wer\"\nslice = \"channel=radio\"\nat_most = 0.10\n";

#[test]
fn a_worse_build_is_stopped_and_told_where() {
    let folder = world(LIMITS);
    build(&folder, "good", usual);
    build(&folder, "same", |clip| (clip + 1) % 2);
    build(&folder, "bad", |clip| if clip % 3 == 0 { 3 } else { usual(clip) });
    folder.fonex(&["gate", "good", "--accept"]).expect(0).says(&["Run 1 (good) is the baseline now"]);
    folder.fonex(&["gate", "same"]).expect(0).prints(&["PASS: run 2 (same) against run 1 (good): 2 limits kept"]);

    let bad = folder
        .fonex(&["gate", "bad", "--format", "json", "-o", "g.xml", "-o", "g.md", "-o", "g.json"])
        .expect(1)
        .says(&["Wrote g.xml", "Wrote g.md"]);
    let result: Value = bad.json();
    assert_eq!(result, serde_json::from_str::<Value>(&folder.read("g.json")).unwrap());
    assert_eq!(result["verdict"], "fail");
    let limit = |name: &str| {
        let limits = result["limits"].as_array().unwrap();
        limits.iter().find(|limit| limit["limit"] == name).unwrap().clone()
    };
    // By hand: 100 radio clips with 3 of 10 words wrong; before, half of the clips had one.
    let (whole, radio) = (limit("whole"), limit("radio"));
    let near =
        |value: &Value, wanted: f64| assert!((value.as_f64().unwrap() - wanted).abs() < 1e-9, "{value} {wanted}");
    near(&radio["figure"], 0.3);
    near(&whole["baseline"], 0.05);
    near(&whole["difference"], (300.0 + 100.0 - 150.0) / 3_000.0);
    assert_eq!((radio["verdict"].as_str(), radio["clips"].as_u64()), (Some("fail"), Some(100)));
    assert_eq!((whole["verdict"].as_str(), whole["counts_as"].as_str()), (Some("fail"), Some("fail")));
    assert!(whole["interval"][0].as_f64().unwrap() > 0.02, "{whole}");
    let xml = folder.read("g.xml");
    let document = roxmltree::Document::parse(&xml).unwrap();
    assert_eq!(document.root_element().attribute("failures"), Some("2"));
    assert!(xml.contains("channel=radio"), "{xml}");
    assert!(folder.read("g.md").starts_with("**FAIL: run 3 (bad) against run 1 (good): 2 limits exceeded, 0 kept**"));
}

#[test]
fn a_baseline_file_says_the_same_as_its_run() {
    let folder = world(LIMITS);
    build(&folder, "good", usual);
    build(&folder, "next", |clip| usize::from(clip % 7 < 5));
    folder.fonex(&["gate", "good", "--accept"]).expect(0);
    let kept = folder.read("base.jsonl");
    let results: Vec<Value> = [vec!["gate", "next"], vec!["gate", "next", "--baseline", "good"]]
        .into_iter()
        .map(|mut words| {
            words.extend(["--format", "json"]);
            folder.fonex(&words).expect(1).json()
        })
        .collect();
    assert_eq!(results[0], results[1]);
    assert_eq!(results[0]["limits"][1]["verdict"], "undecided");
    // Accepting the same run again writes the same bytes; another replaces them and says what it did against the old one.
    folder.fonex(&["gate", "good", "--accept"]).expect(0);
    assert_eq!(folder.read("base.jsonl"), kept);
    folder.fonex(&["gate", "next", "--accept"]).expect(0).says(&["it does not pass the gate"]);
    assert_ne!(folder.read("base.jsonl"), kept);
}

#[test]
fn a_trend_says_where_a_change_lies_and_draws_what_the_gate_allows() {
    let folder = world(LIMITS);
    for label in ["w1", "w2", "w3"] {
        build(&folder, label, usual);
    }
    folder.fonex(&["gate", "w1", "--accept"]).expect(0);
    build(&folder, "w4", |clip| if clip % 3 == 0 { 3 + usize::from(clip == 30) } else { usual(clip) });
    let all: Value = folder.fonex(&["trend", "--format", "json", "-o", "t.svg"]).expect(0).json();
    let change = &all[0]["changes"][0];
    assert_eq!((change["from"].as_i64(), change["verdict"].as_str()), (Some(4), Some("worse")));
    assert_eq!(change["slices"], json!(["channel=radio"]));
    // By hand: the clip with four wrong words had none; then those with three that had none.
    assert_eq!(change["clips_harmed"], json!(["c030", "c000", "c006", "c012", "c018"]));
    assert!(folder.read("t.svg").contains("dashed: limit whole"), "the limit against the baseline");
    let page = folder.fonex(&["trend"]).expect(0);
    page.prints(&["worse since w4", "  seen on channel=radio\n", "  most harmed: c030, c000"]);
    let sliced: Value = folder.fonex(&["trend", "--slice", "channel=phone", "--format", "json"]).expect(0).json();
    assert_eq!(sliced[0]["changes"], json!([]));
    folder.fonex(&["trend", "--slice", "channel=radio", "-o", "t.svg"]).expect(0).prints(&["most harmed: c030"]);
    assert!(folder.read("t.svg").contains("dashed: limit radio"));
}

#[test]
fn undecided_counts_as_the_bench_file_says() {
    let folder = world(LIMITS);
    build(&folder, "one", usual);
    let open = |counts: &str| {
        gate(&folder, &format!("undecided = \"{counts}\"\n[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.051\n"));
    };
    open("fail");
    folder.fonex(&["gate"]).expect(1).prints(&["UNDECIDED: run 1 (one): 1 undecided, 0 kept", "more clips"]);
    folder.fonex(&["gate", "-o", "g.xml"]).expect(1);
    assert!(folder.read("g.xml").contains("type=\"undecided\""));
    open("pass");
    folder
        .fonex(&["gate", "-o", "g.xml"])
        .expect(0)
        .prints(&["PASS: run 1 (one): 1 undecided, counted as passed, 0 kept"]);
    assert!(folder.read("g.xml").contains("<skipped"));
    // These clips themselves: 5 % is at most 5.1 %, and not at most 4.9 %.
    gate(&folder, "[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.051\nexact = true\n");
    folder.fonex(&["gate"]).expect(0);
    gate(&folder, "[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.049\nexact = true\n");
    folder.fonex(&["gate"]).expect(1).prints(&["✗ fail"]);
    // What cannot be asked is never passed over.
    for (limit, reason) in [
        ("measure = \"wer\"\nworse_by_at_most = 0.1\n", "there is no baseline"),
        ("measure = \"wer\"\nvariant = \"eer*\"\nat_most = 0.1\n", "has no variant \"eer*\""),
        ("measure = \"pace\"\nat_most = 0.1\n", "no variant with this measure"),
        ("measure = \"term_recall\"\nat_least = 0.1\n", "no clip with an answer to judge by"),
        ("measure = \"wer\"\nslice = \"channel=sea\"\nat_most = 0.1\n", "has no clip of channel=sea"),
    ] {
        gate(&folder, &format!("[gate.limit.a]\n{limit}"));
        folder.fonex(&["gate"]).expect(1).prints(&["? undecided", reason]);
    }
}

#[test]
fn baselines_that_do_not_fit_are_refused() {
    let folder = world(LIMITS);
    build(&folder, "good", usual);
    folder.fonex(&["gate", "good", "--accept"]).expect(0);
    let base = folder.read("base.jsonl");
    let (head, rest) = base.split_once('\n').unwrap();
    let newer = head.replace("\"fonex_baseline\":1", "\"fonex_baseline\":2");
    let otherwise = head.replace("\"facts_version\":", "\"facts_version\":1");
    let cut: String = base.lines().take(100).map(|line| format!("{line}\n")).collect();
    for (text, wanted) in [
        (cut, "has 99 lines of clips; its first line says 300"),
        (base[..base.len() - 20].to_owned(), "base.jsonl:301"),
        (format!("{newer}\n{rest}"), "written by a newer Fonex"),
        (format!("{otherwise}\n{rest}"), "which counts otherwise"),
        (format!("{head}\n{}", rest.replacen("\"words\"", "\"wrods\"", 1)), ""),
        ("[]".to_owned(), "this is no baseline"),
        (String::new(), "this is no baseline"),
        ("{\"fonex_baseline\":1}".to_owned(), "base.jsonl:1"),
    ] {
        folder.write("base.jsonl", &text);
        let done = folder.fonex(&["gate"]);
        if wanted.is_empty() {
            done.expect(0);
        } else {
            done.expect(2).says(&[wanted]);
        }
    }
    folder.write("base.jsonl", &base);
    // Another corpus: refused, for a gate and for a new baseline, until it is allowed.
    let one_less: String = folder.read("corpus.jsonl").lines().skip(1).map(|line| format!("{line}\n")).collect();
    folder.write("corpus.jsonl", one_less);
    folder.fonex(&["run", "all", "--label", "fewer"]).expect(0);
    for words in [vec!["gate", "fewer"], vec!["gate", "fewer", "--accept"]] {
        folder.fonex(&words).expect(2).says(&["is of another corpus", "--across corpus"]);
    }
    let done = folder.fonex(&["gate", "fewer", "--across", "corpus"]).expect(0);
    done.prints(&["the baseline is of another corpus"]);
    folder.fonex(&["gate", "fewer", "--accept", "--across", "corpus"]).expect(0);
    folder.fonex(&["gate", "fewer"]).expect(0);
    folder.fonex(&["gate", "fewer", "--profile", "verbatim"]).expect(2).says(&["--across profile"]);
    folder.fonex(&["gate", "fewer", "good"]).expect(2).says(&["two runs are named"]);
    folder.fonex(&["gate", "fewer", "--baseline", "goood"]).expect(2).says(&["neither a file nor a run"]);
    folder.fonex(&["gate", "fewer", "--measure", "wer"]).expect(2).says(&["--measure with --record only"]);
    folder.fonex(&["gate", "fewer", "--accept", "-o", "g.xml"]).expect(2).says(&["cannot be used with"]);
    folder.fonex(&["gate", "fewer", "--record", "--baseline", "good"]).expect(2).says(&["cannot be used with"]);
    folder.fonex(&["gate", "fewer", "-o", "g.txt"]).expect(2).says(&[".xml, .md or .json"]);
}

#[test]
fn a_baseline_that_counts_one_fact_otherwise_serves_the_limits_on_others() {
    let folder = world("[gate.limit.words]\nmeasure = \"wer\"\nworse_by_at_most = 0.02\n");
    build(&folder, "good", usual);
    folder.fonex(&["gate", "good", "--accept"]).expect(0);
    let base = folder.read("base.jsonl");
    let counted =
        |facts: &str| base.replacen("\"facts_version\":", &format!("\"facts\":{facts},\"facts_version\":"), 1);
    folder.write("base.jsonl", counted("{\"took\":9}"));
    folder.fonex(&["gate", "good"]).expect(0).prints(&["PASS"]);
    folder.write("base.jsonl", counted("{\"words\":9}"));
    let told = "the baseline was counted by a Fonex that counts wer otherwise; accept it again";
    folder.fonex(&["gate", "good"]).expect(1).prints(&[told]);
    folder.fonex(&["gate", "good", "--accept"]).expect(0);
    folder.fonex(&["gate", "good"]).expect(0).prints(&["PASS"]);
}

#[test]
fn slips_in_limits_are_told_with_their_line() {
    let folder = world(LIMITS);
    build(&folder, "good", usual);
    for (limits, wanted) in [
        (
            "[gate.limit.a]\nmeasure = \"weer\"\nat_most = 0.1\n",
            ["there is no measure \"weer\"", "gate.limit.a.measure"],
        ),
        ("[gate.limit.a]\nmeasure = \"wer\"\n", ["allows everything", "at_most, at_least"]),
        ("[gate.limit.a]\nmeasure = \"wer\"\nat_most = 12\n", ["wer is a share", "fonex.toml:14"]),
        (
            "[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.1\nat_least = 0.0\n",
            ["both at_most and at_least", "second limit"],
        ),
        ("[gate.limit.a]\nmeasure = \"wer\"\nworse_by_at_most = 0\n", ["a margin above 0", "exact = true"]),
        ("[gate.limit.a]\nmeasure = \"wer\"\nat_most = nan\n", ["at_most", "fonex.toml"]),
        ("[gate.limit.a]\nmeasure = \"wer\"\nat_mst = 0.1\n", ["at_mst", "at_most"]),
        ("[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.1\nslice = \"radio\"\n", ["not a slice", "channel=radio"]),
        (
            "[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.1\nslice = \"chanel=radio\"\n",
            ["no clip has the tag", "channel"],
        ),
        ("[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.1\nplan = \"al\"\n", ["no plan \"al\"", "all"]),
        (
            "[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.1\nplan = \"other\"\n",
            ["no limit is for runs of the plan all", "gate"],
        ),
        ("certainty = 1.0\n[gate.limit.a]\nmeasure = \"wer\"\nat_most = 0.1\n", ["certainty is 1", "0.5 to below 1"]),
        ("", ["has no limits", "--record"]),
    ] {
        gate(&folder, limits);
        folder.fonex(&["gate"]).expect(2).says(&wanted);
    }
    // What is wrong with the gate stops nothing else.
    gate(&folder, "limits = 3\n");
    build(&folder, "next", usual);
    folder.fonex(&["gate"]).expect(2).says(&["limits"]);
}

#[test]
fn recorded_limits_keep_the_runs_they_come_from() {
    let folder = world("");
    for (label, shift) in [("a", 0), ("b", 1), ("c", 2), ("d", 3)] {
        build(&folder, label, |clip| usize::from((clip + shift) % 4 < 1));
    }
    folder.fonex(&["gate", "a", "b", "--record"]).expect(2).says(&["limits from 2 runs"]);
    let limits = folder.fonex(&["gate", "a", "b", "c", "d", "--record", "--measure", "wer,cer"]).expect(0).out;
    // Four runs of four: 1 - 0.05^(1/4). The changes are three.
    assert!(limits.contains("kept by 4 of 4: a run like these does not keep it in at most 53 %"), "{limits}");
    assert!(limits.contains("kept by 3 of 3: a run like these does not keep it in at most 63 %"), "{limits}");
    gate(&folder, &limits);
    for (run, before) in [("b", "a"), ("c", "b"), ("d", "c")] {
        folder.fonex(&["gate", run, "--baseline", before]).expect(0).prints(&["4 limits kept"]);
    }
    build(&folder, "worse", |clip| usize::from(clip % 2 == 0) * 2);
    folder.fonex(&["gate", "worse", "--baseline", "d"]).expect(1);
}

/// A run that was made while other programs took this share of the processors.
fn beside_others(folder: &Folder, run: &str, others: f64) {
    folder.fonex(&["export", run, "-o", "busy.jsonl"]).expect(0);
    let text = folder.read("busy.jsonl");
    let (head, rest) = text.split_once('\n').unwrap();
    let mut head: Value = serde_json::from_str(head).unwrap();
    let busy = json!({"others": others, "others_p95": others, "own": 0.1, "looks": 9});
    head["run"]["machine"]["during"] = busy;
    folder.write("busy.jsonl", format!("{head}\n{rest}"));
    folder.fonex(&["import", "busy.jsonl", "--again", "--label", "busy"]).expect(0);
}

#[test]
fn a_limit_says_what_happens_on_a_busy_machine_and_load_concerns_times_alone() {
    let limit = |more: &str| format!("{more}[gate.limit.fast]\nmeasure = \"latency_p50\"\nat_most = 1000.0\n");
    let folder = world(&limit(""));
    let lines: String = (0..300)
        .map(|clip| {
            json!({"id": format!("c{clip:03}"), "text": WORDS.join(" "), "took_ms": 20 + clip % 7}).to_string() + "\n"
        })
        .collect();
    folder.write("r.jsonl", lines);
    folder.fonex(&["run", "all", "--label", "calm"]).expect(0);
    beside_others(&folder, "calm", 0.45);
    folder.fonex(&["gate", "busy"]).expect(1).prints(&["undecided", "other programs used 45 % of the processors"]);
    gate(&folder, &limit("when_busy = \"warn\"\n"));
    folder.fonex(&["gate", "busy"]).expect(0).prints(&["judged although other programs used 45 %"]);
    gate(&folder, &limit("when_busy = \"judge\"\n"));
    let judged = folder.fonex(&["gate", "busy"]).expect(0);
    assert!(!judged.out.contains("45 %"), "{}", judged.out);
    gate(&folder, &limit("busy_share = 0.5\n"));
    folder.fonex(&["gate", "busy"]).expect(0);
    gate(&folder, &limit("busy_share = 5.0\n"));
    folder.fonex(&["gate", "busy"]).expect(2).says(&["busy_share is 5"]);
    // A run is as busy as itself.
    gate(&folder, "[gate.limit.fast]\nmeasure = \"latency_p50\"\nworse_by_at_most = 5.0\n");
    folder.fonex(&["gate", "busy", "--accept"]).expect(0);
    folder.fonex(&["gate", "busy"]).expect(0).prints(&["1 limit kept"]);
    folder.fonex(&["gate", "calm"]).expect(1).prints(&["other programs used 45 %"]);

    // Rates are compared without a word of the load; times are not.
    let rates = folder.fonex(&["compare", "calm", "busy", "--measure", "wer"]).expect(0);
    assert!(!rates.out.contains("machine") && !rates.out.contains("processors"), "{}", rates.out);
    folder.fonex(&["compare", "calm", "busy", "--measure", "latency_p50"]).expect(0).prints(&["no verdict on times"]);
    let trend: Value =
        folder.fonex(&["trend", "--plan", "all", "--measure", "wer", "--format", "json"]).expect(0).json();
    assert!(!trend.to_string().contains("machine") && !trend.to_string().contains("load"), "{trend}");
    let trend: Value =
        folder.fonex(&["trend", "--plan", "all", "--measure", "latency_p50", "--format", "json"]).expect(0).json();
    assert!(trend.to_string().contains("timings not comparable"), "{trend}");
}
