//! Parts of a score: put together they are the whole; what does not go together, or is damaged, is told.

use std::fmt::Write as _;
use std::io::{Read, Write as _};

use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde_json::{Value, json};

use crate::util::Folder;

/// A corpus with everything a label can have, and results with everything a result can: some lost, some that belong to no clip.
pub(crate) fn write_set(folder: &Folder, clips: usize) {
    let mut random = Pcg64Mcg::seed_from_u64(3);
    let words = ["hold", "at", "pylon", "six", "cabin", "fourteen", "Wind", "strong.", "doors", "close"];
    let (mut corpus, mut heard) = (String::new(), String::new());
    for clip in 0..clips {
        let said: Vec<&str> =
            (0..random.random_range(1..12)).map(|_| words[random.random_range(0..words.len())]).collect();
        let timed: Vec<Value> = said
            .iter()
            .enumerate()
            .map(|(at, word)| json!({"text": word, "start": at as f64 * 0.4, "end": at as f64 * 0.4 + 0.3}))
            .collect();
        let label = json!({
            "id": format!("clip-{clip}"), "text": said.join(" "), "lang": "en", "speaker": format!("s{}", clip % 9),
            "tags": {"channel": if clip % 3 == 0 { "radio" } else { "desk" }}, "words": timed,
            "terms": if said.contains(&"pylon") { vec!["pylon"] } else { vec![] },
        });
        writeln!(corpus, "{label}").unwrap();
        if clip % 17 == 5 {
            continue;
        }
        let told: Vec<&str> = said
            .iter()
            .filter_map(|word| match random.random_range(0..10) {
                0 => None,
                1 => Some(words[random.random_range(0..words.len())]),
                _ => Some(*word),
            })
            .collect();
        let timed: Vec<Value> = told
            .iter()
            .enumerate()
            .map(|(at, word)| {
                let start = at as f64 * 0.4 + random.random_range(0..80) as f64 / 1000.0;
                json!({"text": word, "start": start, "end": start + 0.3, "confidence": random.random_range(0..1000) as f64 / 1000.0})
            })
            .collect();
        let result = json!({
            "id": format!("clip-{clip}"), "text": told.join(" "), "words": timed, "took_ms": random.random_range(80..900),
            "alternatives": [{"text": said.join(" ")}],
        });
        writeln!(heard, "{result}").unwrap();
    }
    writeln!(heard, "{}", json!({"id": "nobody", "text": "hold"})).unwrap();
    folder.write("corpus.jsonl", corpus);
    folder.write("heard.jsonl", heard);
    folder.write("weights.toml", "pylon = 5\n");
}

fn parts(folder: &Folder, of: u32, more: &[&str]) -> Vec<String> {
    let make = |part: u32| {
        let (share, name) = (format!("{part}/{of}"), format!("{part}.part"));
        folder
            .fonex(&[&["score", "corpus.jsonl", "heard.jsonl", "--part", &share, "-o", &name], more].concat())
            .expect(0);
        name
    };
    (1..=of).map(make).collect()
}

pub(crate) fn merged(folder: &Folder, parts: &[String]) -> Value {
    let parts = parts.iter().map(String::as_str);
    let arguments: Vec<&str> = ["merge", "--format", "json"].into_iter().chain(parts).collect();
    folder.fonex(&arguments).expect(0).json()
}

/// Whether two values are the same but for the last digits of what is summed in another order, and for examples and lists of clips, of
/// which there may be others.
pub(crate) fn assert_alike(one: &Value, other: &Value, at: &str) {
    match (one, other) {
        (Value::Object(one), Value::Object(other)) => {
            assert_eq!(one.keys().collect::<Vec<_>>(), other.keys().collect::<Vec<_>>(), "{at}");
            for (key, value) in one {
                let same_set = ["missing", "unknown"].contains(&key.as_str());
                match (value, &other[key]) {
                    (Value::Array(a), Value::Array(b)) if same_set => {
                        let sorted = |list: &[Value]| {
                            let mut list: Vec<String> = list.iter().map(ToString::to_string).collect();
                            list.sort();
                            list
                        };
                        assert_eq!(sorted(a), sorted(b), "{at}/{key}");
                    }
                    (Value::Array(a), Value::Array(b)) if key == "clips" || key == "jumps" => {
                        assert_eq!(a.len(), b.len());
                    }
                    (value, other) => assert_alike(value, other, &format!("{at}/{key}")),
                }
            }
        }
        (Value::Array(one), Value::Array(other)) => {
            assert_eq!(one.len(), other.len(), "{at}");
            one.iter()
                .zip(other)
                .enumerate()
                .for_each(|(place, (a, b))| assert_alike(a, b, &format!("{at}/{place}")));
        }
        (Value::Number(a), Value::Number(b)) => {
            let (x, y) = (a.as_f64().unwrap(), b.as_f64().unwrap());
            assert!(a == b || (x - y).abs() <= 1e-11 * x.abs().max(1.0), "{at}: {a} {b}");
        }
        (one, other) => assert_eq!(one, other, "{at}"),
    }
}

#[test]
fn parts_put_together_are_the_whole() {
    let folder = Folder::new();
    write_set(&folder, 600);
    let more = ["--weights", "weights.toml", "--cross", "channel*speaker"];
    let whole: Value = folder
        .fonex(&[&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"], &more[..]].concat())
        .expect(0)
        .json();
    assert!(whole["timing"].is_object() && whole["confidence"].is_object() && whole["weighted"].is_object());
    for of in [1, 2, 16] {
        let names = parts(&folder, of, &more);
        let all = merged(&folder, &names);
        assert_alike(&all, &whole, "");
        // Counts, rates and their intervals are the same to the last bit.
        for field in
            ["words", "characters", "interval_by_speaker", "missing_as_empty", "ser", "mean_clip_wer", "weighted"]
        {
            assert_eq!(all[field], whole[field], "{field}");
        }
        for (mine, theirs) in all["slices"].as_array().unwrap().iter().zip(whole["slices"].as_array().unwrap()) {
            assert_eq!(mine["words"], theirs["words"]);
        }
        // In any order, and in steps.
        if of == 16 {
            let (some, others) = names.split_at(5);
            let arguments: Vec<&str> =
                ["merge", "-o", "some.part"].into_iter().chain(some.iter().map(String::as_str)).collect();
            folder.fonex(&arguments).expect(0).says(&["all but 6, 7, 8, 9, 10, 11, 12, 13, 14, 15 and 1 more"]);
            let mut in_steps: Vec<String> = others.to_vec();
            in_steps.reverse();
            in_steps.push("some.part".to_owned());
            let stepped = merged(&folder, &in_steps);
            assert_alike(&stepped, &whole, "");
            assert_eq!(stepped["words"], whole["words"]);
        }
    }
}

#[test]
fn more_parts_than_clips_and_other_forms_of_files_are_parts_as_well() {
    let folder = Folder::new();
    folder.write("corpus.csv", "id,text\na,hold at pylon six\nb,doors close\n");
    folder.write("heard.csv", "id,text\na,hold at pylon\nb,doors close\nc,nobody\n");
    let mut names = Vec::new();
    for part in 1..=7 {
        let (share, name) = (format!("{part}/7"), format!("{part}.part"));
        folder.fonex(&["score", "corpus.csv", "heard.csv", "--part", &share, "-o", &name]).expect(0);
        names.push(name);
    }
    let whole: Value = folder.fonex(&["score", "corpus.csv", "heard.csv", "--format", "json"]).expect(0).json();
    assert_alike(&merged(&folder, &names), &whole, "");
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"hold\"}\n");
    folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"hold\"}\n");
    let whole: Value = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"]).expect(0).json();
    assert_alike(&merged(&folder, &parts(&folder, 3, &[])), &whole, "");
}

#[test]
fn what_does_not_go_together_is_told() {
    let folder = Folder::new();
    write_set(&folder, 60);
    parts(&folder, 2, &[]);
    folder.fonex(&["merge", "1.part"]).expect(2).says(&["lacks 1 part: 2"]);
    folder.fonex(&["merge", "1.part", "1.part"]).expect(2).says(&["part 1 is there already"]);
    folder.fonex(&["merge", "corpus.jsonl"]).expect(2).says(&["no part of a score", "corpus.jsonl"]);
    folder.fonex(&["merge", "nothing.part"]).expect(2).says(&["nothing.part"]);
    let score = |more: &[&str]| {
        let arguments = [&["score", "corpus.jsonl", "heard.jsonl", "--part"][..], more].concat();
        folder.fonex(&arguments)
    };
    score(&["2/3", "-o", "third.part"]).expect(0);
    folder.fonex(&["merge", "1.part", "third.part"]).expect(2).says(&["one of 3, not of 2"]);
    for (more, says) in [
        (vec!["--profile", "en"], "another text profile"),
        (vec!["--weights", "weights.toml"], "other weights"),
        (vec!["--cross", "channel*speaker"], "crossed slices"),
    ] {
        score(&[&["2/2", "-o", "other.part"], more.as_slice()].concat()).expect(0);
        folder.fonex(&["merge", "1.part", "other.part"]).expect(2).says(&[says, "other.part"]);
    }
    folder.write("heard.jsonl", format!("{}\n", folder.read("heard.jsonl")));
    score(&["2/2", "-o", "grown.part"]).expect(0);
    folder.fonex(&["merge", "1.part", "grown.part"]).expect(2).says(&["another size"]);
    score(&["0/2", "-o", "x.part"]).expect(2).says(&["K/N"]);
    score(&["1/2"]).expect(2).says(&["--output"]);
    folder
        .fonex(&["score", "corpus.jsonl", "heard.jsonl", "heard.jsonl", "--part", "1/2", "-o", "x.part"])
        .expect(2)
        .says(&["one results file"]);
    // A mistake in a line is complained of in the part into which it falls, and nothing is written.
    folder.write("heard.jsonl", "{\"id\":\"clip-1\",\"txt\":\"x\"}\n");
    let codes: Vec<i32> =
        (1..=2).map(|part| score(&[&format!("{part}/2"), "-o", &format!("b{part}.part")]).code).collect();
    assert_eq!(codes.iter().filter(|code| **code == 2).count(), 1);
    assert_eq!((1..=2).filter(|part| folder.path().join(format!("b{part}.part")).exists()).count(), 1);
}

#[test]
fn a_part_that_counts_one_fact_otherwise_is_refused_by_its_name() {
    let folder = Folder::new();
    write_set(&folder, 40);
    parts(&folder, 2, &[]);
    let mut text = String::new();
    GzDecoder::new(std::fs::File::open(folder.path().join("2.part")).unwrap()).read_to_string(&mut text).unwrap();
    let other = text.replacen("\"facts_version\":", "\"facts\":{\"words\":9},\"facts_version\":", 1);
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    packed.write_all(other.as_bytes()).unwrap();
    folder.write("2.part", packed.finish().unwrap());
    let told = ["a Fonex that counts words otherwise", "2.part", "score it again"];
    folder.fonex(&["merge", "1.part", "2.part"]).expect(2).says(&told);
}

/// Whatever stands in a part: it is put together or refused.
#[test]
fn a_part_that_was_changed_is_refused_or_counted() {
    let folder = Folder::new();
    write_set(&folder, 40);
    parts(&folder, 2, &["--cross", "channel*speaker"]);
    let mut text = String::new();
    GzDecoder::new(std::fs::File::open(folder.path().join("2.part")).unwrap()).read_to_string(&mut text).unwrap();
    let mut random = Pcg64Mcg::seed_from_u64(8);
    let numbers: Vec<usize> = text.match_indices(|c: char| c.is_ascii_digit()).map(|(at, _)| at).collect();
    let mut refused = 0;
    for round in 0..250 {
        let mut bytes = text.clone().into_bytes();
        match round % 5 {
            // Another digit, a number that is far too large, one that is negative, a piece that is gone, a piece that stands twice.
            0 => bytes[numbers[random.random_range(0..numbers.len())]] = b'0' + random.random_range(0..10),
            1 => {
                let at = numbers[random.random_range(0..numbers.len())];
                bytes.splice(at..=at, *b"4294967295");
            }
            2 => bytes.insert(numbers[random.random_range(0..numbers.len())], b'-'),
            3 => {
                let at = random.random_range(0..bytes.len() - 40);
                bytes.drain(at..at + random.random_range(1..40));
            }
            _ => {
                let at = random.random_range(0..bytes.len() - 40);
                let piece = bytes[at..at + 30].to_vec();
                bytes.splice(at..at, piece);
            }
        }
        let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
        packed.write_all(&bytes).unwrap();
        folder.write("changed.part", packed.finish().unwrap());
        let done = folder.fonex(&["merge", "1.part", "changed.part", "--format", "json"]);
        assert!([0, 2].contains(&done.code), "{}", done.err);
        refused += u32::from(done.code == 2);
    }
    assert!(refused > 100, "{refused}");
}
