//! Only some clips, and slices by crossed tags: the figures by hand.

use serde_json::{Value, json};

use crate::util::Folder;

const WORDS: [&str; 10] = ["one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten"];

/// 80 clips of ten words, the first ten of six: radio and desk in turn, strong wind in the second half. The engine gets one word
/// of a desk clip wrong, three of a radio clip, and another two in strong wind; c01, a desk clip, has no result.
fn world() -> Folder {
    let folder = Folder::new();
    let words = |at: usize| if at < 10 { 6 } else { 10 };
    let tags = |at: usize| (["radio", "desk"][at % 2], ["calm", "strong"][at / 40]);
    let clips: String = (0..80)
        .map(|at| {
            let (channel, wind) = tags(at);
            let text = WORDS[..words(at)].join(" ");
            json!({"id": format!("c{at:02}"), "text": text, "tags": {"channel": channel, "wind": wind}}).to_string()
                + "\n"
        })
        .collect();
    folder.write("corpus.jsonl", clips);
    let heard = |more: usize| -> String {
        (0..80)
            .filter(|at| *at != 1)
            .map(|at| {
                let wrong = if at % 2 == 0 { 3 } else { 1 } + if at >= 40 { 2 } else { 0 } + more;
                let text: Vec<&str> =
                    (0..words(at)).map(|word| if word < wrong { "wrong" } else { WORDS[word] }).collect();
                json!({"id": format!("c{at:02}"), "text": text.join(" ")}).to_string() + "\n"
            })
            .collect()
    };
    folder.write("one.jsonl", heard(0));
    folder.write("two.jsonl", heard(1));
    let engine = |name: &str| {
        format!("[engine.{name}]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"{name}.jsonl\"\n")
    };
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n{}{}[plan.all]\nengines = [\"one\", \"two\"]\n[gate.limit.a]\nmeasure = \"wer\"\nvariant = \"one\"\nat_most = 0.2\nexact = true\n",
            engine("one"),
            engine("two")
        ),
    );
    folder.fonex(&["run", "all"]).expect(3);
    folder
}

fn figures(folder: &Folder, condition: &str) -> (f64, u64, u64) {
    let shown: Value = folder.fonex(&["show", "1", "--where", condition, "--format", "json"]).expect(0).json();
    let one = &shown["variants"][0];
    assert_eq!(shown["where"], condition);
    let failed = one["outcomes"].as_array().unwrap().iter().filter(|o| o["outcome"] != "done");
    let failed = failed.map(|o| o["trials"].as_u64().unwrap()).sum();
    (one["measures"]["wer"]["value"].as_f64().unwrap(), one["measures"]["wer"]["clips"].as_u64().unwrap(), failed)
}

#[test]
fn only_the_clips_that_meet_the_condition_count() {
    let folder = world();
    let before: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(figures(&folder, "channel = radio and wind = strong"), (0.5, 20, 0));
    // 15 desk clips of ten words with one wrong; four of six words, one more without a result.
    let desk = figures(&folder, "channel = desk and wind = calm");
    assert!((desk.0 - 19.0 / (15.0 * 10.0 + 4.0 * 6.0)).abs() < 1e-12, "{desk:?}");
    assert_eq!((desk.1, desk.2), (19, 1));
    assert_eq!(figures(&folder, "words < 8").1, 9);
    // The run itself is as it was.
    let after: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(before, after);
    let page = folder.fonex(&["show", "1", "--where", "channel = radio"]).expect(0);
    page.prints(&["where channel = radio: 40 clips", "no failures", "--where 'channel = radio'"]);
    // 25 of 100 words are wrong over all, 10 in calm desk clips of ten words.
    folder.fonex(&["gate", "1"]).expect(1).prints(&["FAIL: run 1"]);
    let calm = "channel = desk and wind = calm and words > 8";
    folder.fonex(&["gate", "1", "--where", calm]).expect(0).prints(&["PASS: run 1, where channel = desk"]);
    folder.fonex(&["gate", "1", "--accept", "--where", calm]).expect(2).says(&["a baseline holds every clip"]);
    let compared: Value =
        folder.fonex(&["compare", "1", "--where", "wind = strong", "--format", "json"]).expect(0).json();
    assert_eq!((&compared[0]["where"], &compared[0]["findings"][0]["clips"]), (&json!("wind = strong"), &json!(40)));
    let trend: Value = folder.fonex(&["trend", "--where", "wind = strong", "--format", "json"]).expect(0).json();
    assert!((trend[0]["points"][0]["value"].as_f64().unwrap() - 0.4).abs() < 1e-12);
    folder.fonex(&["report", "1", "--where", "wind = strong", "-o", "r.html"]).expect(0);
    assert!(folder.read("r.html").contains("only clips where wind = strong"));
}

#[test]
fn conditions_that_cannot_be_read_or_are_met_by_nothing_are_refused() {
    let folder = world();
    for (condition, says) in [
        ("chanel = radio", "write \"channel\""),
        ("channel = ", "--where"),
        ("channel = moon", "no clip of run 1 meets the condition"),
        ("snr < 10", "no clip of run 1 meets the condition"),
    ] {
        for command in ["show", "compare", "gate", "report"] {
            folder.fonex(&[command, "1", "--where", condition]).expect(2).says(&[says]);
        }
    }
    std::fs::remove_file(folder.path().join("corpus.jsonl")).unwrap();
    folder.fonex(&["show", "1", "--where", "snr < 10"]).expect(2).says(&["snr is measured in the audio"]);
    folder.fonex(&["show", "1", "--where", "channel = radio"]).expect(0);
}

#[test]
fn two_tags_are_crossed_and_the_worst_comes_first() {
    let folder = world();
    let page = folder.fonex(&["show", "1", "--by", "channel*wind"]).expect(0).out;
    let rows: Vec<&str> = page.lines().filter_map(|line| line.split_once(' ').map(|(name, _)| name)).collect();
    let rows: Vec<&str> = rows.into_iter().filter(|name| name.contains('*') && *name != "channel*wind").collect();
    assert_eq!(rows, ["radio*strong", "radio*calm", "desk*strong", "desk*calm"]);
    let compared: Value = folder
        .fonex(&["compare", "1", "--by", "channel*wind", "--by", "length", "--format", "json"])
        .expect(0)
        .json();
    let slices: Vec<&str> =
        compared[0]["findings"].as_array().unwrap().iter().filter_map(|f| f["slice"].as_str()).collect();
    assert_eq!(
        slices,
        [
            "channel*wind=desk*calm",
            "channel*wind=desk*strong",
            "channel*wind=radio*calm",
            "channel*wind=radio*strong",
            "length=6 to 15 words",
        ]
    );
    let series: Value = folder.fonex(&["trend", "--by", "channel*wind", "--format", "json"]).expect(0).json();
    assert_eq!(series.as_array().unwrap().len(), 2 * 5);
    folder.fonex(&["show", "1", "--by", "chanel*wind"]).expect(2).says(&["write \"channel\""]);
    folder.fonex(&["show", "1", "--by", "moon"]).expect(2).says(&["no clip has the tag \"moon\""]);
    // No clip has audio.
    folder.fonex(&["show", "1", "--by", "snr"]).expect(0);
}
