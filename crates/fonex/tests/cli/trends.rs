//! Trends to act on: what else changed where a measure did, by commit and date, many at once, as a page.

use crate::contract::{Mark, Series};
use crate::util::{Folder, corpus};

/// Weekly runs of a recogniser: two builds, of which the second is bad on the radio.
fn weeks() -> Folder {
    let folder = Folder::new();
    write_corpus(&folder, "");
    folder.write("fonex.toml", "corpus = \"corpus.jsonl\"\n[engine.marl]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"good.jsonl\"\n[plan.weekly]\nengines = [\"marl\"]\nwarm_up = 0\n");
    for (name, radio) in [("good", "hold at pylon six"), ("bad", "hold")] {
        let line = |at: usize| {
            let text = if at.is_multiple_of(2) { radio } else { "hold at pylon six" };
            format!("{{\"id\":\"c{at:02}\",\"text\":\"{text}\",\"took_ms\":100}}\n")
        };
        folder.write(&format!("{name}.jsonl"), (0..60).map(line).collect::<String>());
    }
    for (label, commit) in [("w1", "1a2b3c4d5e6f"), ("w2", "2b3c4d5e6f7a")] {
        folder.fonex(&["run", "--label", label, "--commit", commit]).expect(0);
    }
    folder
}

fn write_corpus(folder: &Folder, more: &str) {
    let ids: Vec<String> = (0..60).map(|at| format!("c{at:02}")).collect();
    let channel = |at: usize| if at.is_multiple_of(2) { "radio" } else { "desk" };
    let text = format!("hold at pylon six{more}");
    let clips: Vec<_> = ids.iter().enumerate().map(|(at, id)| (id.as_str(), text.as_str(), channel(at))).collect();
    corpus(folder, &clips);
}

fn trend(folder: &Folder, more: &[&str]) -> Vec<Series> {
    folder.fonex(&[&["trend", "--format", "json"], more].concat()).expect(0).json()
}

/// What changed but for how busy the machine was: the tests beside this one are other processes, now more and now fewer.
fn told(marks: &[Mark]) -> Vec<&Mark> {
    marks.iter().filter(|mark| mark.kind != "machine").collect()
}

#[test]
fn a_change_of_the_corpus_is_no_change_of_the_engine() {
    let folder = weeks();
    // The label of every clip gets two words more, which nobody says: the rate goes up, and the engine is as it was.
    write_corpus(&folder, " now please");
    for label in ["w3", "w4"] {
        folder.fonex(&["run", "--label", label]).expect(0);
    }
    let all = trend(&folder, &[]);
    let values: Vec<f64> = all[0].points.iter().map(|point| point.value.unwrap()).collect();
    assert_eq!(values, [0.0, 0.0, 1.0 / 3.0, 1.0 / 3.0]);
    assert!(all[0].changes.is_empty(), "{:?}", all[0].changes);
    assert_eq!((all[0].breaks[0].before, all[0].breaks[0].what.as_str()), (3, "the corpus changed"));
    let marks = told(&all[0].marks);
    assert_eq!((marks[0].before, marks[0].kind.as_str()), (3, "corpus"));
    assert!(marks[0].what.contains(" → "), "{marks:?}");
    // What is worse behind the break is the engine's.
    folder.fonex(&["run", "--label", "w5", "--set", "engine.marl.results=bad.jsonl"]).expect(0);
    let all = trend(&folder, &[]);
    let [change] = all[0].changes.as_slice() else { panic!("one change: {:?}", all[0].changes) };
    assert_eq!((change.from, change.verdict.as_str()), (5, "worse"));
    let with = told(&change.with);
    assert!(with.is_empty(), "nothing else that is known changed there: {with:?}");
    assert_eq!(change.slices, ["channel=radio"]);
}

#[test]
fn runs_are_named_by_label_date_or_commit() {
    let folder = weeks();
    let all = trend(&folder, &[]);
    let commits: Vec<&str> = all[0].points.iter().map(|point| point.commit.as_deref().unwrap()).collect();
    assert_eq!(commits, ["1a2b3c4d5e6f", "2b3c4d5e6f7a"]);
    folder.fonex(&["trend", "--at", "commit"]).expect(0).prints(&["1a2b3c4d", "2b3c4d5e"]);
    folder.fonex(&["trend", "--at", "date"]).expect(0).prints(&[&all[0].points[0].started_at[..10]]);
    folder.fonex(&["show", "w1"]).expect(0).prints(&["commit 1a2b3c4d5e6f"]);
    folder.fonex(&["run", "--label", "w3", "--commit", "two words"]).expect(2).says(&["--commit"]);
    // Without being told, a run is of the commit that is checked out around its bench file.
    let head = "0123456789abcdef0123456789abcdef01234567";
    folder.write(".git/HEAD", "ref: refs/heads/main\n");
    folder.write(".git/refs/heads/main", head);
    folder.fonex(&["run", "--label", "w3"]).expect(0);
    assert_eq!(trend(&folder, &[])[0].points[2].commit.as_deref(), Some(head));
}

#[test]
fn many_series_are_drawn_at_once() {
    let folder = weeks();
    for label in ["w3", "w4"] {
        folder.fonex(&["run", "--label", label, "--set", "engine.marl.results=bad.jsonl"]).expect(0);
    }
    let all = trend(&folder, &["--measure", "wer,latency_p50", "--by", "channel"]);
    let named: Vec<(&str, Option<&str>, usize)> =
        all.iter().map(|series| (series.measure.as_str(), series.slice.as_deref(), series.changes.len())).collect();
    let slices = [None, Some("channel=desk"), Some("channel=radio")];
    let wer = slices.iter().zip([1, 0, 1]).map(|(slice, changes)| ("wer", *slice, changes));
    let latency = slices.iter().map(|slice| ("latency_p50", *slice, 0));
    assert_eq!(named, wer.chain(latency).collect::<Vec<_>>());
    let by = ["trend", "--measure", "wer,latency_p50", "--by", "channel", "-o"];
    folder.fonex(&[&by[..], &["t.svg"]].concat()).expect(0);
    let svg = folder.read("t.svg");
    assert!(svg.matches("channel=radio").count() == 2 && svg.contains("100 ms"), "{svg}");
    folder.fonex(&[&by[..], &["t.html"]].concat()).expect(0);
    let page = folder.read("t.html");
    assert!(page.contains("worse since w3") && page.matches("<svg ").count() == 7, "six charts and the picture");
    assert!(!page.contains("href=\"#measures\"") && page.contains("id=\"book\""), "the clips of the change");
    assert!(page.contains("clips&amp;result=lost"), "{page}");
    folder.fonex(&["trend", "--by", "moon"]).expect(2).says(&["no clip has the tag \"moon\"", "channel"]);
    folder.fonex(&["trend", "--by", "channel", "--slice", "channel=radio"]).expect(2).says(&["--slice"]);
    folder.fonex(&["trend", "-o", "nowhere/t.html"]).expect(2).says(&["nowhere/t.html"]);
}
