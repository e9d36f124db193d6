//! More than two variants beside each other: the matrix, the clips that changed sides, the best by slice.

use serde_json::{Value, json};

use crate::util::{Folder, corpus};

const WORDS: [&str; 10] = ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten"];

/// 120 clips of ten words; engines get so many words wrong in each, as `wrong` says.
fn world(engines: &[&str], wrong: impl Fn(&str, usize) -> usize) -> Folder {
    let folder = Folder::new();
    let text = WORDS.join(" ");
    let ids: Vec<String> = (0..120).map(|clip| format!("c{clip:03}")).collect();
    let clips: Vec<(&str, &str, &str)> =
        (0..120).map(|at| (ids[at].as_str(), text.as_str(), ["radio", "phone"][at % 2])).collect();
    corpus(&folder, &clips);
    let mut bench = "corpus = \"corpus.jsonl\"\n".to_owned();
    for engine in engines {
        let lines: String = (0..120)
            .map(|clip| {
                let wrong = wrong(engine, clip);
                let words: Vec<&str> =
                    WORDS.iter().enumerate().map(|(at, word)| if at < wrong { "wrong" } else { word }).collect();
                json!({"id": format!("c{clip:03}"), "text": words.join(" ")}).to_string() + "\n"
            })
            .collect();
        folder.write(&format!("{engine}.jsonl"), lines);
        bench +=
            &format!("[engine.{engine}]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"{engine}.jsonl\"\n");
    }
    folder.write("fonex.toml", format!("{bench}[plan.all]\nengines = {}\n", json!(engines)));
    folder.fonex(&["run", "all"]).expect(0);
    folder
}

#[test]
fn a_matrix_says_who_beats_whom_and_who_is_on_the_front() {
    // Good and like are alike in what they hear; bad is worse than both.
    let folder = world(&["like", "good", "bad"], |engine, clip| match engine {
        "bad" => 4 + clip % 2,
        _ => clip % 3 % 2,
    });
    let matrices: Value =
        folder.fonex(&["compare", "1", "--matrix", "--measure", "wer", "--format", "json"]).expect(0).json();
    let matrix = &matrices[0];
    assert_eq!(matrix["variants"], json!(["1:like", "1:good", "1:bad"]));
    assert_eq!(matrix["comparisons"].as_array().unwrap().len(), 3);
    assert_eq!(matrix["front"], json!(["1:like", "1:good"]));
    assert_eq!(matrix["beaten"], json!([{"variant": "1:bad", "by": "1:like"}]));
    let page = folder.fonex(&["compare", "1", "--matrix", "--measure", "wer"]).expect(0);
    page.prints(&["▼ better", "▲ worse", "On the front of WER: 1:like, 1:good", "not on it: 1:bad, since 1:like"]);
    let rows = folder.fonex(&["compare", "1", "--matrix", "--measure", "wer", "--format", "csv"]).expect(0).out;
    assert_eq!(rows.lines().count(), 4, "{rows}");
    folder.fonex(&["compare", "1:good", "--matrix"]).expect(2).says(&["no two of these variants do the same"]);
    folder.fonex(&["compare", "1", "--matrix", "--measure", "pace"]).expect(2).says(&["there is nothing to compare"]);
    folder.fonex(&["compare", "1", "--matrix", "--flips"]).expect(2);
}

#[test]
fn fifty_variants_have_no_column_each() {
    let names: Vec<String> = (0..50).map(|number| format!("e{number:02}")).collect();
    let engines: Vec<&str> = names.iter().map(String::as_str).collect();
    let folder = world(&engines, |engine, clip| (engine.as_bytes()[2] as usize + clip) % 3);
    let page = folder.fonex(&["compare", "1", "--matrix", "--measure", "wer"]).expect(0).out;
    assert!(page.contains("all 1225 findings together") && page.lines().count() < 200, "{page}");
    assert!(page.lines().all(|line| line.chars().count() <= 100), "{page}");
}

#[test]
fn clips_that_changed_sides_stand_by_their_harm() {
    let folder = world(&["ear"], |_, clip| usize::from(clip == 5) * 2);
    let corpus: String = folder
        .read("corpus.jsonl")
        .lines()
        .map(|line| {
            let mut clip: Value = serde_json::from_str(line).unwrap();
            if clip["id"] == "c007" {
                clip["terms"] = json!(["one two"]);
            }
            format!("{clip}\n")
        })
        .collect();
    folder.write("corpus.jsonl", corpus);
    folder.fonex(&["run", "all", "--label", "before"]).expect(0);
    let worse: String = folder
        .read("ear.jsonl")
        .lines()
        .map(|line| {
            let mut heard: Value = serde_json::from_str(line).unwrap();
            match heard["id"].as_str().unwrap() {
                "c005" => heard["text"] = json!(WORDS.join(" ")),
                "c007" => heard["text"] = json!("one to three four five six seven eight nine ten"),
                "c009" => heard["text"] = json!("one two three four five"),
                _ => {}
            }
            format!("{heard}\n")
        })
        .collect();
    folder.write("ear.jsonl", worse);
    folder.fonex(&["run", "all", "--label", "after"]).expect(0);
    let changed: Value =
        folder.fonex(&["compare", "before", "after", "--flips", "--format", "json"]).expect(0).json();
    let changed = &changed[0];
    assert_eq!((changed["lost"].as_u64(), changed["won"].as_u64()), (Some(2), Some(1)));
    // One term weighs more than five words.
    let order: Vec<(&str, &str)> = changed["clips"]
        .as_array()
        .unwrap()
        .iter()
        .map(|clip| (clip["verdict"].as_str().unwrap(), clip["clip"].as_str().unwrap()))
        .collect();
    assert_eq!(order, [("lost", "c007"), ("lost", "c009"), ("won", "c005")]);
    assert_eq!(changed["clips"][0]["second"], json!({"terms_missed": 1.0, "errors": 1.0}));
    folder.fonex(&["compare", "before", "after", "--flips", "1"]).expect(0).prints(&[
        "2 clips lost, 1 won",
        "lost c007: terms missed 0 then 1, wrong words 0 then 1",
        "won c005: terms missed 1 then 0, wrong words 2 then 0",
        "1 clip changed as well",
    ]);
    folder
        .fonex(&["compare", "before", "after", "--flips", "--measure", "wer"])
        .expect(2)
        .says(&["leave out --measure"]);
    folder.fonex(&["compare", "before", "before", "--flips"]).expect(0).prints(&["Both hear every clip alike."]);
}

#[test]
fn choosing_by_slice_gains_where_it_does_and_claims_nothing_where_not() {
    // One is better on the radio, the other on the phone.
    let folder = world(&["air", "wire"], |engine, clip| match (engine, clip % 2) {
        ("air", 0) | ("wire", 1) => usize::from(clip % 5 == 0),
        _ => 2 + clip % 3 % 2,
    });
    let best: Value = folder.fonex(&["compare", "1", "--best-by", "channel", "--format", "json"]).expect(0).json();
    let best = &best[0];
    let chosen: Vec<(&str, &str)> = best["choices"]
        .as_array()
        .unwrap()
        .iter()
        .map(|choice| (choice["value"].as_str().unwrap(), choice["best"].as_str().unwrap()))
        .collect();
    assert_eq!(chosen, [("phone", "1:wire"), ("radio", "1:air")]);
    assert_eq!(best["verdict"], "better");
    // By hand: one word in a fifth of the clips, whoever is chosen.
    assert!((best["chosen_figure"].as_f64().unwrap() - 24.0 / 1_200.0).abs() < 1e-9, "{best}");
    folder.fonex(&["compare", "1", "--best-by", "channel"]).expect(0).prints(&["choosing is better", "1:wire"]);
    // Alike but for chance: what looks best in a slice is not taken for a gain.
    let alike = world(&["air", "wire"], |engine, clip| (clip * 7 + engine.len()) % 11 % 3);
    let none: Value = alike.fonex(&["compare", "1", "--best-by", "channel", "--format", "json"]).expect(0).json();
    assert_eq!(none[0]["verdict"], "cannot-tell");
    alike.fonex(&["compare", "1", "--best-by", "chanel"]).expect(2).says(&["no clip has the tag \"chanel\""]);
    alike.fonex(&["compare", "1:air", "--best-by", "channel"]).expect(2).says(&["two variants or more"]);
}

#[test]
fn variants_without_a_clip_in_common_are_not_called_alike() {
    let folder = world(&["ear"], |_, _| 1);
    folder.write("other.jsonl", json!({"id": "z", "text": "one two"}).to_string() + "\n");
    folder.write("z.jsonl", json!({"id": "z", "text": "one two"}).to_string() + "\n");
    let set = ["--set", "plan.all.corpus=other.jsonl", "--set", "engine.ear.results=z.jsonl"];
    folder.fonex(&[&["run", "all", "--label", "other"], &set[..]].concat()).expect(0);
    folder
        .fonex(&["compare", "1", "other", "--flips"])
        .expect(0)
        .prints(&["of 0 clips that both answered", "No clip was answered by both."]);
    folder.fonex(&["compare", "1", "other", "--matrix"]).expect(2).says(&["there is nothing to compare"]);
    folder.fonex(&["compare", "1", "other", "--best-by", "channel"]).expect(2).says(&["is of another corpus"]);
    // One clip of a gate is no sample, and is not passed over.
    let bench = folder.read("fonex.toml");
    folder.write("fonex.toml", bench + "[gate]\n[gate.limit.a]\nmeasure = \"wer\"\nworse_by_at_most = 0.1\n");
    folder.fonex(&["gate", "other", "--baseline", "other"]).expect(1).prints(&["there is one clip only to judge by"]);
}
