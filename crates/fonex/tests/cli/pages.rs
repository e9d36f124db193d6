//! What people read: comparisons, trends, reports, the demo, help.

use crate::contract::{Comparison, Trend};
use crate::util::{Folder, corpus};

/// Two recognisers that echo a fixed text: one right, one that drops half of it and tries to inject markup.
fn compared() -> Folder {
    let folder = Folder::new();
    let ids: Vec<String> = (0..16).map(|i| format!("c{i:02}")).collect();
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
    assert_eq!(wer, [("worse", None, 16), ("worse", Some("channel=desk"), 8), ("worse", Some("channel=radio"), 8)]);
    assert_eq!(comparisons[0].findings[0].difference, Some(0.75));
    folder.fonex(&["compare", "1:bad", "1:good"]).expect(0).prints(&["▼ better", "WER", "−75.0 pts"]);
    folder.fonex(&["compare", "1:bad", "1:god"]).expect(2).says(&["write \"good\""]);
    folder.fonex(&["compare", "1:good"]).expect(2).says(&["no two variants of this run do the same"]);

    folder.fonex(&["report", "1", "-o", "report.html"]).expect(0);
    let page = page(&folder, "report.html");
    assert!(!page.contains("<script") && page.contains("bad gets more words wrong than good"));
    assert!(page.contains("data:audio/wav;base64,") && page.matches("<svg").count() == 2);
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
    let trends: Vec<Trend> = folder.fonex(&arguments).expect(0).json();
    let verdicts: Vec<Option<&str>> =
        trends[0].points.iter().map(|p| p.change.as_ref().map(|c| c.verdict.as_str())).collect();
    assert_eq!(verdicts, [None, Some("cannot-tell"), Some("worse")]);
    assert_eq!(trends[0].points[2].wer, Some(0.75));
    assert!(folder.read("t.svg").contains("▲ worse"));
    folder.fonex(&["trend", "--plan", "weekly", "-o", "t.png"]).expect(0).prints(&["no change", "▲ worse", "w3"]);
    assert!(std::fs::read(folder.path().join("t.png")).unwrap().starts_with(b"\x89PNG"));
    folder.fonex(&["trend", "--slice", "channel=radio", "--format", "csv"]).expect(0).prints(&["good,4,w3,"]);
    folder.fonex(&["trend", "--slice", "channel=moon"]).expect(2).says(&["no run has such a trend"]);
    folder.fonex(&["trend", "-o", "t.gif"]).expect(2).says(&[".svg or .png"]);
}

#[test]
fn the_demo_tells_its_story() {
    let folder = Folder::new();
    folder.fonex(&["demo", "d"]).expect(0).prints(&["channel=radio", "osier/Sorrel", "9 of 9", "▲ worse", "w46"]);
    let page = page(&folder, "d/report.html");
    assert!(page.contains("tern gets more words wrong than marl/river on channel radio"));
    assert!(page.contains("osier/Sorrel clips more than osier/Ilka"));
    assert!(page.contains("tern answers sooner than marl/river"));
    folder.fonex(&["score", "d/corpus.jsonl", "d/heard.jsonl"]).expect(0).prints(&["WER"]);
    folder.write("other/file.txt", "mine");
    folder.fonex(&["demo", "other"]).expect(2).says(&["holds something else"]);
    assert_eq!(folder.read("other/file.txt"), "mine");
}

#[test]
fn a_fresh_bench_file_is_read_and_not_overwritten() {
    let folder = Folder::new();
    folder.fonex(&["init", "new"]).expect(0).prints(&["fonex try my-recogniser"]);
    folder.fonex(&["init", "new"]).expect(2).says(&["a bench file here already"]);
    corpus(&folder, &[("a", "hold", "radio")]);
    std::fs::copy(folder.path().join("corpus.jsonl"), folder.path().join("new/corpus.jsonl")).unwrap();
    std::fs::create_dir(folder.path().join("new/audio")).unwrap();
    std::fs::copy(folder.path().join("audio/any.wav"), folder.path().join("new/audio/any.wav")).unwrap();
    folder.fonex(&["try", "my-recogniser", "a", "--bench", "new/fonex.toml"]).expect(3).prints(&["unreachable"]);
}

#[test]
fn every_command_explains_itself_with_an_example() {
    let folder = Folder::new();
    let commands =
        ["demo", "init", "try", "run", "score", "runs", "show", "compare", "trend", "report", "completions"];
    let help = folder.fonex(&["--help"]).expect(0).out;
    for command in commands {
        assert!(help.contains(&format!("  {command} ")), "{command} is not listed");
        folder.fonex(&[command, "--help"]).expect(0).prints(&["Example", &format!("fonex {command}")]);
    }
    assert_eq!(folder.fonex(&["--version"]).expect(0).out, format!("fonex {}\n", env!("CARGO_PKG_VERSION")));
    folder.fonex(&["completions", "bash"]).expect(0).prints(&["_fonex"]);
    folder.fonex(&["scor"]).expect(2).says(&["score"]);
}
