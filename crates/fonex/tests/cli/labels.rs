//! Labels on trial, and labels that are disputed.

use serde_json::{Value, json};

use crate::util::{Folder, corpus};

/// 200 clips of words that hardly recur; two engines that each err now and then, by themselves.
fn world(labels: impl Fn(usize) -> Option<String>) -> Folder {
    let folder = Folder::new();
    let truth = |clip: usize| -> Vec<String> { (0..8).map(|at| format!("w{}", (clip * 8 + at) % 700)).collect() };
    let texts: Vec<(String, String)> =
        (0..200).map(|clip| (format!("c{clip:03}"), labels(clip).unwrap_or_else(|| truth(clip).join(" ")))).collect();
    let clips: Vec<(&str, &str, &str)> =
        texts.iter().map(|(id, text)| (id.as_str(), text.as_str(), "hall")).collect();
    corpus(&folder, &clips);
    for (engine, every) in [("one", 7), ("two", 5)] {
        let heard: String = (0..200)
            .map(|clip| {
                let mut words = truth(clip);
                if clip % every == 3 {
                    words[clip % 8] = format!("{engine}{clip}");
                }
                json!({"id": format!("c{clip:03}"), "text": words.join(" ")}).to_string() + "\n"
            })
            .collect();
        folder.write(&format!("{engine}.jsonl"), heard);
    }
    let engine = |name: &str| {
        format!("[engine.{name}]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"{name}.jsonl\"\n")
    };
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n{}{}[plan.all]\nengines = [\"one\", \"two\"]\n[plan.alone]\nengines = [\"one\"]\n",
            engine("one"),
            engine("two")
        ),
    );
    folder.fonex(&["run", "all"]).expect(0);
    folder
}

#[test]
fn wrong_labels_are_found_with_what_they_should_say() {
    let folder = world(|clip| match clip {
        11 => Some("w88 w89 slip w91 w92 w93 w94 w95".to_owned()),
        20 => Some("w160 w161 w162 w164 w165 w166 w167".to_owned()),
        30 => Some("quite another text than what is said".to_owned()),
        _ => None,
    });
    let done = folder.fonex(&["corpus", "check", "corpus.jsonl", "--with", "1", "--format", "json"]);
    let tried: Value = done.json::<Value>()["on_trial"].clone();
    assert_eq!(tried["clips"], 200);
    let suspects = tried["suspects"].as_array().unwrap();
    let first: Vec<&str> = suspects.iter().take(3).map(|suspect| suspect["clip"].as_str().unwrap()).collect();
    assert!(["c011", "c020", "c030"].iter().all(|clip| first.contains(clip)), "{suspects:?}");
    let suspect = |id: &str| suspects.iter().find(|suspect| suspect["clip"] == id).unwrap();
    assert_eq!(suspect("c011")["agreed"], "w88 w89 w90 w91 w92 w93 w94 w95");
    assert_eq!(suspect("c011")["spots"][0]["label"], "slip");
    assert_eq!(suspect("c020")["spots"][0]["agreed"], "w163");
    assert_eq!(suspect("c030")["agreed"], "w240 w241 w242 w243 w244 w245 w246 w247");
    // By hand: one error, one, and eight against the whole text, of 1,599 words less one; each chance is near one.
    let added = tried["engines"][0]["added_wer"].as_f64().unwrap();
    assert!((added - 10.0 / 1_598.0).abs() < 0.001, "{added}");
    let page = folder.fonex(&["corpus", "check", "corpus.jsonl", "--with", "1"]).out;
    assert!(
        page.contains("1:one, 1:two heard 200 clips") && page.contains("c011 by agreement: w88 w89 w90"),
        "{page}"
    );
    folder.fonex(&["report", "1", "-o", "r.html", "--worst", "1"]).expect(0);
    let report = folder.read("r.html");
    assert!(report.contains("Labels on trial") && report.contains("about 3 may be wrong"));
    // To be listened to, before the clip that was worst heard.
    let card = |id: &str| report.find(&format!("audio of {id}")).unwrap_or(usize::MAX);
    assert!(
        ["c011", "c020", "c030"].iter().all(|id| card(id) < usize::MAX),
        "{:?}",
        ["c011", "c020", "c030"].map(card)
    );
    let rows = folder.fonex(&["corpus", "check", "corpus.jsonl", "--with", "1", "--format", "csv"]).out;
    assert!(rows.starts_with("clip,odds,chance,") && rows.contains("\nc011,"), "{rows}");
}

#[test]
fn right_labels_are_not_accused_and_one_engine_is_no_witness() {
    let folder = world(|_| None);
    let done = folder.fonex(&["corpus", "check", "corpus.jsonl", "--with", "1", "--format", "json"]);
    assert_eq!(done.json::<Value>()["on_trial"]["suspects"], json!([]));
    folder.fonex(&["run", "alone"]).expect(0);
    folder
        .fonex(&["corpus", "check", "corpus.jsonl", "--with", "2"])
        .expect(2)
        .says(&["fewer than two engines", "models of one engine have one voice"]);
    folder
        .fonex(&["corpus", "check", "corpus.jsonl", "--with", "nine"])
        .expect(2)
        .says(&["there is no run \"nine\""]);
    folder.write("other.jsonl", json!({"id": "x", "text": "a"}).to_string() + "\n");
    let other = folder.fonex(&["corpus", "check", "other.jsonl", "--with", "1"]).expect(2);
    other.says(&["no clip of this corpus was heard by two engines"]);
}

#[test]
fn disputed_labels_are_counted_apart_everywhere() {
    let folder = world(|_| None);
    let whole: Value = folder.fonex(&["score", "corpus.jsonl", "one.jsonl", "--format", "json"]).expect(0).json();
    // 29 clips have an error (3, 10, ... 199); two of them are disputed.
    assert_eq!((whole["clips"].as_u64(), whole["clips_with_errors"].as_u64()), (Some(200), Some(29)));
    let disputed: String = folder
        .read("corpus.jsonl")
        .lines()
        .map(|line| {
            let mut clip: Value = serde_json::from_str(line).unwrap();
            if clip["id"] == "c003" || clip["id"] == "c010" {
                clip["tags"]["disputed"] = json!("two people hear it differently");
            }
            format!("{clip}\n")
        })
        .collect();
    folder.write("corpus.jsonl", disputed);
    let score: Value = folder.fonex(&["score", "corpus.jsonl", "one.jsonl", "--format", "json"]).expect(0).json();
    assert_eq!((score["clips"].as_u64(), score["clips_with_errors"].as_u64()), (Some(198), Some(27)));
    assert_eq!(score["disputed"]["words"]["wer"], 2.0 / 16.0);
    let told = "2 clips with a disputed label counted apart: WER 12.5 % there";
    folder.fonex(&["score", "corpus.jsonl", "one.jsonl"]).expect(0).prints(&[told]);
    let run = folder.fonex(&["run", "all", "--label", "disputed"]).expect(0);
    run.prints(&["one (2 clips, WER 12.5 % there)"]);
    let shown: Value = folder.fonex(&["show", "disputed", "--format", "json"]).expect(0).json();
    let one = &shown["variants"][0];
    assert_eq!((one["clips"].as_u64(), one["disputed"]["clips"].as_u64()), (Some(198), Some(2)));
    assert_eq!(one["measures"]["wer"]["value"], score["words"]["wer"]);
    let compared: Value = folder.fonex(&["compare", "disputed", "--format", "json"]).expect(0).json();
    assert_eq!(compared[0]["findings"][0]["clips"], 198);
    folder.fonex(&["compare", "disputed"]).expect(0).prints(&["2 clips with a disputed label"]);
    // What was kept under the other corpus says the same as before.
    let before: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(before["variants"][0]["clips"], 200);
}
