//! What people read: comparisons, trends, reports, the demo, help.

use crate::contract::{Comparison, Measure, Series};
use crate::util::{Folder, corpus};

/// Two recognisers that echo a fixed text: one right, one that drops half of it and tries to inject markup.
fn compared() -> Folder {
    let folder = Folder::new();
    let ids: Vec<String> = (0..60).map(|i| format!("c{i:02}")).collect();
    let clips: Vec<(&str, &str, &str)> = ids
        .iter()
        .enumerate()
        .map(|(i, id)| (id.as_str(), "hold at pylon six", if i % 2 == 0 { "radio" } else { "desk" }))
        .collect();
    corpus(&folder, &clips);
    let engine = |name: &str, says: &str| {
        format!(
            "[engine.{name}]\ntransport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\ncommand = [\"echo\", \"{says}\"]\n"
        )
    };
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n{}{}[plan.p]\nengines = [\"good\", \"bad\"]\n[plan.weekly]\nengines = [\"good\"]\n",
            engine("good", "hold at pylon six"),
            engine("bad", "hold </span><script>alert(1)</script><b>"),
        ),
    );
    folder.fonex(&["run", "p"]).expect(0);
    folder
}

/// A page with its escaped slashes written plainly.
fn page(folder: &Folder, name: &str) -> String {
    folder.read(name).replace("&#x2f;", "/")
}

#[test]
fn a_plain_difference_is_found_and_a_report_is_only_text() {
    let folder = compared();
    let done = folder.fonex(&["compare", "1", "--by", "channel", "--format", "json"]).expect(0);
    let comparisons: Vec<Comparison> = done.json();
    assert_eq!((comparisons[0].first.as_str(), comparisons[0].second.as_str()), ("1:good", "1:bad"));
    let wer: Vec<(&str, Option<&str>, u64)> = comparisons[0]
        .findings
        .iter()
        .filter(|f| f.measure == "wer")
        .map(|f| (f.verdict.as_str(), f.slice.as_deref(), f.clips))
        .collect();
    assert_eq!(wer, [("worse", None, 60), ("worse", Some("channel=desk"), 30), ("worse", Some("channel=radio"), 30)]);
    assert_eq!(comparisons[0].findings[0].difference, Some(0.75));
    folder.fonex(&["compare", "1:bad", "1:good"]).expect(0).prints(&["▼ better", "WER", "−75.0 pts"]);
    folder.fonex(&["compare", "1:bad", "1:god"]).expect(2).says(&["write \"good\""]);
    folder.fonex(&["compare", "1:good"]).expect(2).says(&["no two variants of this run have the same task"]);

    folder.fonex(&["report", "1", "-o", "report.html"]).expect(0);
    let page = page(&folder, "report.html");
    assert!(!page.contains("<script>alert") && page.contains("bad gets more words wrong than good"));
    assert!(page.contains("data:audio/wav;base64,") && page.matches("<svg ").count() == 5, "{page}");
    for address in ["http://", "https://", "src=\"/", "@import"] {
        let ours = page.replace("http://www.w3.org/2000/svg", "");
        assert!(!ours.contains(address), "the page reaches out: {address}");
    }
}

#[test]
fn a_regression_shows_in_the_trend() {
    let folder = compared();
    for label in ["w1", "w2"] {
        folder.fonex(&["run", "weekly", "--label", label]).expect(0);
    }
    folder.fonex(&["run", "weekly", "--label", "w3", "--set", "engine.good.command=[\"echo\", \"hold\"]"]).expect(0);
    let arguments = ["trend", "--plan", "weekly", "-o", "t.svg", "--format", "json"];
    let all: Vec<Series> = folder.fonex(&arguments).expect(0).json();
    let [change] = all[0].changes.as_slice() else { panic!("one change: {all:?}") };
    assert_eq!(
        (change.from, change.told_by, change.verdict.as_str(), change.shape.as_str()),
        (4, 4, "worse", "step")
    );
    assert_eq!((all[0].points[2].value, all[0].measure.as_str()), (Some(0.75), "wer"));
    assert!(folder.read("t.svg").contains("▲ worse"));
    folder.fonex(&["trend", "--plan", "weekly", "-o", "t.png"]).expect(0).prints(&["worse since w3", "▲ worse"]);
    assert!(std::fs::read(folder.path().join("t.png")).unwrap().starts_with(b"\x89PNG"));
    folder.fonex(&["trend", "--slice", "channel=radio", "--format", "csv"]).expect(0).prints(&[
        "4,w3,",
        "0.75",
        "value_low",
    ]);
    folder
        .fonex(&["trend", "--slice", "channel=moon"])
        .expect(2)
        .says(&["no clip has channel=moon", "desk or radio"]);
    folder.fonex(&["trend", "-o", "t.gif"]).expect(2).says(&[".svg, .png or .html"]);
}

#[test]
fn the_demo_tells_its_story() {
    let folder = Folder::new();
    folder.fonex(&["demo", "d"]).expect(0).prints(&[
        "channel=radio",
        "osier/Sorrel",
        "clips in 18 of 18",
        "worse since w46",
        "osier/Ilka best.",
        "Sound: changed",
        "FAIL: run 8 (w46) against run 7 (w45): 1 limit exceeded, 2 undecided",
    ]);
    assert!(folder.read("d/gate.xml").contains("failures=\"2\""));
    let page = page(&folder, "d/report.html");
    assert!(page.contains("tern gets more words wrong than marl/river"));
    let voices = self::page(&folder, "d/voices.html");
    assert!(voices.contains("osier/Sorrel clips more often than osier/Ilka"));
    assert!(voices.contains("What listeners think") && voices.contains("dB from recordings"));
    // Which of them answers sooner is as the machine allows while other tests run beside.
    assert!(page.contains("latency, median"));
    folder.fonex(&["score", "d/corpus.jsonl", "d/heard.jsonl"]).expect(0).prints(&["WER"]);
    folder.write("other/file.txt", "mine");
    folder.fonex(&["demo", "other"]).expect(2).says(&["is not empty"]);
    assert_eq!(folder.read("other/file.txt"), "mine");
}

#[test]
fn a_fresh_bench_file_is_read_and_not_overwritten() {
    let folder = Folder::new();
    folder.fonex(&["init", "new"]).expect(0).prints(&["fonex try my-recogniser"]);
    folder.fonex(&["init", "new"]).expect(2).says(&["already holds a bench file"]);
    corpus(&folder, &[("a", "hold", "radio")]);
    std::fs::copy(folder.path().join("corpus.jsonl"), folder.path().join("new/corpus.jsonl")).unwrap();
    std::fs::create_dir(folder.path().join("new/audio")).unwrap();
    std::fs::copy(folder.path().join("audio/any.wav"), folder.path().join("new/audio/any.wav")).unwrap();
    folder.fonex(&["try", "my-recogniser", "a", "--bench", "new/fonex.toml"]).expect(3).prints(&["unreachable"]);
}

#[test]
fn every_command_explains_itself_with_an_example() {
    let folder = Folder::new();
    let commands = [
        "demo",
        "init",
        "try",
        "run",
        "score",
        "measures",
        "runs",
        "gate",
        "export",
        "import",
        "show",
        "compare",
        "trend",
        "report",
        "completions",
    ];
    let help = folder.fonex(&["--help"]).expect(0).out;
    for command in commands {
        assert!(help.contains(&format!("  {command} ")), "{command} is not listed");
        folder.fonex(&[command, "--help"]).expect(0).prints(&["Example", &format!("fonex {command}")]);
    }
    assert_eq!(folder.fonex(&["--version"]).expect(0).out, format!("fonex {}\n", env!("CARGO_PKG_VERSION")));
    folder.fonex(&["completions", "bash"]).expect(0).prints(&["_fonex"]);
    folder.fonex(&["scor"]).expect(2).says(&["score"]);
}

#[test]
fn measures_are_listed_explained_and_compared_by_pattern() {
    let folder = compared();
    let all: Vec<Measure> = folder.fonex(&["measures", "--format", "json"]).expect(0).json();
    for id in ["wer", "latency_p95", "calibration_error", "drift", "clipped_clips", "reply_words", "unanswered"] {
        assert!(all.iter().any(|measure| measure.id == id), "{id}");
    }
    folder.fonex(&["measures", "wer"]).expect(0).prints(&["(S + D + I) / N", "lower"]);
    folder.fonex(&["measures", "wre"]).expect(2).says(&["no measure \"wre\"", "fonex measures"]);
    let arguments = ["compare", "1", "--measure", "wer,latency_*", "--format", "json"];
    let comparisons: Vec<Comparison> = folder.fonex(&arguments).expect(0).json();
    let ids: Vec<&str> = comparisons[0].findings.iter().map(|finding| finding.measure.as_str()).collect();
    assert_eq!(ids, ["wer", "latency_p50", "latency_p95", "latency_p99"]);
    folder.fonex(&["compare", "1", "--measure", "speed"]).expect(2).says(&["no measure \"speed\"", "fonex measures"]);
    folder.fonex(&["compare", "1", "--measure", "pace"]).expect(2).says(&["there is nothing to compare"]);
    folder.fonex(&["compare", "1", "--by", "chanel"]).expect(2).says(&["write \"channel\""]);
}

/// Every table at several widths: nothing is wider than the terminal, and nothing is lost without a word.
#[test]
fn tables_fit_the_terminal() {
    let folder = compared();
    for arguments in [&["show", "1"][..], &["compare", "1"], &["runs"], &["measures"], &["trend"]] {
        for width in ["80", "100", "160"] {
            let out = folder.fonex_in(arguments, &[("COLUMNS", width)]).expect(0).out;
            let widest = out.lines().map(|line| line.chars().count()).max().unwrap();
            // Sentences are the terminal's to fold; tables are ours.
            let tables = out.lines().filter(|line| line.contains("──") || line.contains("  "));
            let table = tables.map(|line| line.chars().count()).max().unwrap_or(0);
            assert!(table <= width.parse().unwrap(), "{arguments:?} at {width}: {table} of {widest}\n{out}");
        }
    }
}

#[test]
fn a_stored_run_is_scored_anew_under_another_profile() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio"), ("b", "Hold, at pylon six!", "radio")]);
    let engine =
        "transport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\ncommand = [\"echo\", \"hold at pylon six\"]\n";
    folder
        .write("fonex.toml", format!("corpus = \"corpus.jsonl\"\n[engine.e]\n{engine}[plan.p]\nengines = [\"e\"]\n"));
    folder.fonex(&["run", "p"]).expect(0);
    let wer = |arguments: &[&str]| {
        let view: serde_json::Value = folder.fonex(arguments).expect(0).json();
        let measured = &view["variants"][0]["measures"]["wer"]["value"];
        assert_eq!(measured, &view["variants"][0]["score"]["words"]["wer"], "facts and score agree");
        measured.as_f64().unwrap()
    };
    assert_eq!(wer(&["show", "--format", "json"]), 0.0);
    assert_eq!(wer(&["show", "--profile", "verbatim", "--format", "json"]), 0.5);
    assert_eq!(wer(&["show", "--format", "json"]), 0.0, "the run's own figures stay");
    folder.fonex(&["show", "--profile", "latin"]).expect(2).says(&["no text profile \"latin\""]);
}

/// One entry in the table, and every command has it.
#[test]
fn a_measure_of_the_table_is_in_every_command_and_form() {
    let folder = compared();
    let id = "first_word_wrong";
    let measured = |arguments: &[&str]| folder.fonex_in(arguments, &[("COLUMNS", "160")]).expect(0).out;
    folder.write("heard.jsonl", "{\"id\":\"c00\",\"text\":\"at pylon six\"}\n");
    let arguments = ["score", "corpus.jsonl", "heard.jsonl", "--format", "json"];
    let score: serde_json::Value = folder.fonex(&arguments).expect(0).json();
    assert_eq!(score["measures"][id]["value"], 1.0, "the only clip with a result lost its first word");
    assert_eq!(score["measures"]["last_word_wrong"]["value"], 0.0, "and kept its last");
    for arguments in [
        &["show", "1", "--measure", id][..],
        &["compare", "1", "--measure", id],
        &["trend", "--measure", id],
        &["show", "1", "--measure", id, "--format", "markdown"],
        &["compare", "1", "--measure", id, "--format", "csv"],
        &["trend", "--measure", id, "--format", "csv"],
    ] {
        let out = measured(arguments);
        assert!(out.contains("first word wrong") || out.contains(id), "{arguments:?}\n{out}");
    }
    folder.fonex(&["report", "1", "-o", "report.html"]).expect(0);
    assert!(folder.read("report.html").contains("first word wrong"));
    let run: serde_json::Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert!(run["variants"][0]["measures"][id]["value"].is_number());
}
