//! What matters, few speakers, small slices: what a verdict says beside better and worse.

use std::fmt::Write;

use serde_json::Value;

use crate::util::Folder;

/// Clips of ten words, 30 by radio and 8 at the help point, of so many speakers, and two recorded engines: the second has one
/// word more wrong in every `apart`th clip.
fn folder(speakers: usize, apart: usize, more: &str) -> Folder {
    let folder = Folder::new();
    let words = ["cabin", "six", "hold", "at", "pylon", "four", "and", "wait", "for", "wind"];
    let (mut corpus, mut heard) = (String::new(), [String::new(), String::new()]);
    for clip in 0..38 {
        let (id, channel, speaker) = (format!("c{clip}"), if clip < 30 { "radio" } else { "help" }, clip % speakers);
        let text = words.join(" ");
        writeln!(
            corpus,
            r#"{{"id":"{id}","text":"{text}","tags":{{"channel":"{channel}"}},"speaker":"s{speaker}"}}"#
        )
        .unwrap();
        for (side, heard) in heard.iter_mut().enumerate() {
            let mut said = words;
            if clip % 3 == 0 {
                said[0] = "cable";
            }
            if side == 1 && clip % apart == 0 {
                said[1..=5].copy_from_slice(&["sicks", "holt", "it", "python", "for"]);
            }
            writeln!(heard, r#"{{"id":"{id}","text":"{}","took_ms":{}}}"#, said.join(" "), 40 + clip).unwrap();
        }
    }
    folder.write("corpus.jsonl", corpus);
    folder.write("first.jsonl", &heard[0]);
    folder.write("second.jsonl", &heard[1]);
    let bench = "corpus = \"corpus.jsonl\"\n[engine.ear]\ntransport = \"recorded\"\ntask = \"hear\"\n\
                 models = [\"first\", \"second\"]\nresults = \"{model}.jsonl\"\n[plan.all]\nengines = [\"ear\"]\n";
    folder.write("fonex.toml", format!("{bench}{more}"));
    folder
}

fn findings(folder: &Folder, more: &[&str]) -> Vec<Value> {
    let arguments = [&["compare", "1", "--format", "json"], more].concat();
    let compared: Value = folder.fonex(&arguments).expect(0).json();
    compared[0]["findings"].as_array().unwrap().clone()
}

#[test]
fn what_matters_is_said_in_the_bench_file() {
    let folder = folder(38, 2, "[matters]\nwer = \"60 pts\"\n");
    folder.fonex(&["run", "all"]).expect(0);
    let wer = findings(&folder, &["--measure", "wer"]).remove(0);
    assert_eq!((&wer["verdict"], &wer["less_than_matters"]), (&Value::from("worse"), &Value::from(true)), "{wer}");
    folder.fonex(&["compare", "1", "--measure", "wer"]).expect(0).prints(&[", less than matters."]);
    let bench = folder.read("fonex.toml");
    folder.write("fonex.toml", bench.replace("60 pts", "0.5 pts"));
    let wer = findings(&folder, &["--measure", "wer"]).remove(0);
    assert_eq!((&wer["verdict"], &wer["less_than_matters"]), (&Value::from("worse"), &Value::Null), "{wer}");
    // The same latency on every clip: nothing to test, and nothing that costs the WER.
    let both = findings(&folder, &["--measure", "wer,latency_p50"]);
    assert_eq!(both[0]["p_value"], wer["p_value"]);
    for (wrong, says) in [
        ("wer = \"5 ms\"", "matters.wer"),
        ("wer = \"0 pts\"", "matters.wer"),
        ("wer = 5", "half a point"),
        ("word_errors = 0.1", "there is no measure \"word_errors\""),
        ("wer = true", "matters"),
    ] {
        folder.write("fonex.toml", bench.replace("wer = \"60 pts\"", wrong));
        folder.fonex(&["compare", "1"]).expect(2).says(&["fonex.toml", says]);
    }
}

#[test]
fn a_report_says_of_all_clips_what_compare_says() {
    for apart in [5, 6, 8, 10, 13] {
        let folder = folder(38, apart, "");
        folder.fonex(&["run", "all"]).expect(0);
        let told = findings(&folder, &[])[0]["verdict"] == "worse";
        folder.fonex(&["report", "1", "-o", "r.html"]).expect(0);
        let page = folder.read("r.html");
        let says = page.contains("gets more words wrong than");
        assert_eq!(says, told, "every {apart}th clip");
    }
}

#[test]
fn small_slices_are_listed_and_few_speakers_have_verdicts_on_their_clips() {
    let folder = folder(1, 2, "");
    folder.fonex(&["run", "all"]).expect(0);
    let all = findings(&folder, &["--measure", "wer", "--by", "channel"]);
    let of = |slice: &str| all.iter().find(|finding| finding["slice"] == slice).unwrap();
    assert_eq!(of("channel=help")["withheld"], "fewer than 10 clips");
    assert!(of("channel=help")["interval"].is_null() && of("channel=help")["second"].as_f64().unwrap() > 0.1);
    assert!(of("channel=radio")["interval"].is_array());
    assert_eq!((&all[0]["verdict"], &all[0]["unit"]), (&Value::from("worse"), &Value::from("clip")), "one speaker");
    let by_speaker = findings(&folder, &["--measure", "wer", "--unit", "speaker"]).remove(0);
    assert!(by_speaker["withheld"].as_str().unwrap().starts_with("one speaker is too few"));
    assert!(by_speaker["first"].is_number() && by_speaker["difference"].is_number(), "{by_speaker}");
}
