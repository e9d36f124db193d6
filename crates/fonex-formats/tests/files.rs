//! Labels, results and captions through every form they are written in: what comes back is what went in, and what is wrong is found where
//! it stands.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use fonex_core::captions::Caption;
use fonex_core::{Alternative, Clip, HeardWord, TimedWord};
use fonex_formats::{
    CaptionForm, HeardRecord, captions, corpus_line, file_name_of, heard_line, nearest, read_corpus, read_heard,
    read_mapped, write_captions,
};
use proptest::collection::{btree_map, vec};
use proptest::option;
use proptest::prelude::*;

/// A file in a folder of its own, which lives as long as the first of the two.
fn file(name: &str, content: impl AsRef<[u8]>) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    std::fs::write(&path, content).unwrap();
    (folder, path)
}

/// Words as people write them: letters of several scripts, digits and signs, but none that a label gives a meaning.
fn text() -> impl Strategy<Value = String> {
    vec("[a-zA-Z0-9äßéñİ漢字,.'\"%&;:!?-]{1,9}", 1..8).prop_map(|words| words.join(" "))
}

fn timed() -> impl Strategy<Value = TimedWord> {
    (text(), 0_u32..100_000, 0_u32..5_000).prop_map(|(text, start_ms, length_ms)| TimedWord {
        text,
        start: f64::from(start_ms) / 1e3,
        end: f64::from(start_ms + length_ms) / 1e3,
    })
}

fn clip() -> impl Strategy<Value = Clip> {
    let tags = btree_map("[a-z]{1,6}", "[a-zA-Z0-9 é,\"]{0,8}", 0..4);
    (
        text(),
        option::of("[a-z]{2}"),
        option::of("[A-Z][a-z]{1,6}"),
        vec("[a-z ]{1,8}", 0..3),
        tags,
        vec(timed(), 0..4),
    )
        .prop_map(|(text, lang, speaker, terms, tags, words)| Clip {
            text,
            lang,
            speaker,
            terms: terms.iter().map(|term| term.trim().to_owned()).filter(|term| !term.is_empty()).collect(),
            tags: tags.into_iter().collect(),
            words,
            ..Clip::default()
        })
}

/// Clips with ids of their own.
fn clips() -> impl Strategy<Value = Vec<Clip>> {
    vec(clip(), 1..8).prop_map(|clips| {
        let named = |(at, clip): (usize, Clip)| Clip { id: format!("c{at}"), ..clip };
        clips.into_iter().enumerate().map(named).collect()
    })
}

fn record() -> impl Strategy<Value = HeardRecord> {
    let word =
        (text(), option::of(0_u32..90_000), option::of(0_u32..=1_000)).prop_map(|(text, start, confidence)| {
            let start = start.map(|ms| f64::from(ms) / 1e3);
            HeardWord {
                text,
                start,
                end: start.map(|start| start + 0.25),
                confidence: confidence.map(|share| f64::from(share) / 1e3),
            }
        });
    let other = (text(), option::of(0_u32..=1_000))
        .prop_map(|(text, share)| Alternative { text, confidence: share.map(|share| f64::from(share) / 1e3) });
    (text(), vec(word, 0..4), vec(other, 0..3), vec(timed(), 0..3), option::of(0_u32..1_000_000)).prop_map(
        |(text, words, alternatives, segments, took)| HeardRecord {
            id: String::new(),
            text,
            words,
            alternatives,
            segments,
            lang: None,
            confidence: None,
            took_ms: took.map(|ms| f64::from(ms) / 8.0),
        },
    )
}

/// A cell of a table as RFC 4180 writes it.
fn cell(text: &str) -> String {
    format!("\"{}\"", text.replace('"', "\"\""))
}

proptest! {
    /// However lines end, and whatever blank lines stand between them, a corpus is the clips that were written.
    #[test]
    fn a_corpus_comes_back_from_json_lines(clips in clips(), end in prop_oneof!["\n", "\r\n", "\n\n \n"], last in any::<bool>()) {
        let lines: Vec<String> = clips.iter().map(corpus_line).collect();
        let end_of_file = if last { end.as_str() } else { "" };
        let (_folder, path) = file("corpus.jsonl", lines.join(&end) + end_of_file);
        let read = read_corpus(&path).unwrap();
        prop_assert_eq!(&read.clips, &clips);
        // The checksum is of the clips, not of how their lines end.
        let (_folder, plain) = file("corpus.jsonl", lines.join("\n") + "\n");
        prop_assert_eq!(read.checksum, read_corpus(&plain).unwrap().checksum);
    }

    /// A table says what JSON Lines say, as far as it has columns for it; and so does one that was mapped.
    #[test]
    fn a_corpus_comes_back_from_a_table(clips in clips(), crlf in any::<bool>(), tabs in any::<bool>()) {
        let (end, separator, name) = (if crlf { "\r\n" } else { "\n" }, if tabs { "\t" } else { "," }, if tabs { "c.tsv" } else { "c.csv" });
        // An empty cell is no value, so that only clips without empty tags can come back whole.
        let told = |clip: &Clip| Clip {
            words: Vec::new(),
            tags: clip.tags.iter().filter(|(_, value)| !value.is_empty()).map(|(k, v)| (k.clone(), v.clone())).collect(),
            ..clip.clone()
        };
        let told: Vec<Clip> = clips.iter().map(told).collect();
        let mut keys: Vec<&String> = told.iter().flat_map(|clip| clip.tags.keys()).collect();
        keys.sort();
        keys.dedup();
        let table = |names: [&str; 4]| {
            let header = names.iter().map(|name| (*name).to_owned()).chain(keys.iter().map(|key| format!("tags.{key}")));
            // Tab-separated text says by its header that its cells are quoted.
            let header = header.map(|name| if tabs { cell(&name) } else { name });
            let mut table = header.collect::<Vec<_>>().join(separator) + end;
            for clip in &told {
                let fixed = [&clip.id, &clip.text, clip.lang.as_ref().unwrap_or(&String::new()), &clip.terms.join(";")].map(|text| cell(text));
                let tags = keys.iter().map(|key| cell(clip.tags.get(*key).map_or("", String::as_str)));
                table += &(fixed.into_iter().chain(tags).collect::<Vec<_>>().join(separator) + end);
            }
            table
        };
        let plain: Vec<Clip> = told.iter().map(|clip| Clip { speaker: None, ..clip.clone() }).collect();
        let (_folder, path) = file(name, table(["id", "text", "lang", "terms"]));
        prop_assert_eq!(&read_corpus(&path).unwrap().clips, &plain);
        let (_folder, path) = file(name, table(["key", "said", "tongue", "terms"]));
        let columns = BTreeMap::from([("id", "key"), ("text", "said"), ("lang", "tongue")].map(|(a, b)| (a.to_owned(), b.to_owned())));
        let mapped = read_mapped(&path, &columns).unwrap();
        let mapped: Vec<Clip> = mapped.clips.into_iter().map(|(clip, _)| clip).collect();
        prop_assert_eq!(mapped, plain);
    }

    #[test]
    fn results_come_back_in_their_order(records in vec(record(), 1..8)) {
        let records: Vec<HeardRecord> =
            records.into_iter().enumerate().map(|(at, record)| HeardRecord { id: format!("c{at}"), ..record }).collect();
        let (_folder, path) = file("heard.jsonl", records.iter().map(|record| heard_line(record) + "\n").collect::<String>());
        let read = read_heard(&path).unwrap();
        prop_assert_eq!(read.order.len(), records.len());
        for (id, record) in read.order.iter().zip(&records) {
            prop_assert_eq!(&HeardRecord::new(id.clone(), read.by_id[id].clone()), record);
        }
    }

    /// Two ids never have one file, whatever letters they are made of and whichever the file system takes for the same.
    #[test]
    fn every_id_has_a_file_of_its_own(a in "[aA/\\\\._%~ äÄ:*]{0,6}|.{0,300}", b in "[aA/\\\\._%~ äÄ:*]{0,6}|.{0,300}") {
        let names = [&a, &b].map(|id| file_name_of(id));
        prop_assert_eq!(a == b, names[0] == names[1]);
        for name in names {
            prop_assert!(name.len() <= 220 && !name.contains(['/', '\\', '\0']) && name != "." && name != "..", "{}", name);
        }
    }

    /// Captions that are written and read again have the times to a millisecond and the same words.
    #[test]
    fn captions_come_back(words in vec(timed(), 1..6), vtt in any::<bool>()) {
        let mut at = 0.0;
        let captions: Vec<Caption> = words
            .iter()
            .map(|word| {
                let start: f64 = at;
                at = start + (word.end - word.start) + 0.5;
                Caption { start, end: at - 0.25, lines: vec![word.text.clone()], words: Vec::new() }
            })
            .collect();
        let form = if vtt { CaptionForm::Vtt } else { CaptionForm::Srt };
        let cues = captions::parse(&write_captions(&captions, form), Path::new("a")).unwrap();
        prop_assert_eq!(cues.len(), captions.len());
        for (cue, caption) in cues.iter().zip(&captions) {
            prop_assert!((cue.start - caption.start).abs() < 1e-3 && (cue.end - caption.end).abs() < 1e-3);
            if !vtt {
                prop_assert_eq!(&cue.text, &caption.lines.join("\n"));
            }
        }
    }

    /// Of names that are known, the typed one is its own nearest; what shares no letter with any has none.
    #[test]
    fn the_nearest_name_is_the_name_itself(names in proptest::collection::hash_set("[a-m]{4,9}", 2..6)) {
        for name in &names {
            prop_assert_eq!(nearest(name, names.iter().map(String::as_str)), Some(name.as_str()));
        }
        prop_assert_eq!(nearest("zzzzz", names.iter().map(String::as_str)), None);
    }
}

#[test]
fn what_is_wrong_is_found_where_it_stands() {
    for (name, content, parts) in [
        ("c.jsonl", "{\"id\":\"a\",\"text\":\"x\"}\n{\"id\":\"a\",\"text\":\"y\"}\n", &["c.jsonl:2", "id"][..]),
        ("c.jsonl", "{\"id\":\"a\",\"text\":\"x\",\"langg\":\"en\"}\n", &["c.jsonl:1", "langg", "\"lang\""]),
        ("c.jsonl", "\n\n{\"id\":\"a\",\"text\":\"{x|y\"}\n", &["c.jsonl:3", "text"]),
        ("c.jsonl", "{\"id\":\"\",\"text\":\"x\"}\n", &["the id is empty"]),
        ("c.jsonl", "{\"id\":\"a\",\"text\":\"x\",\"audio\":\"../b.wav\"}\n", &["leaves the corpus folder"]),
        (
            "c.jsonl",
            "{\"id\":\"a\",\"text\":\"x\",\"words\":[{\"text\":\"x\",\"start\":2,\"end\":1}]}\n",
            &["words[0].end"],
        ),
        ("c.csv", "id,text\na,x,y\n", &["c.csv:2", "3 cells"]),
        ("c.csv", "id,tex\na,x\n", &["unknown column \"tex\"", "\"text\""]),
        ("c.csv", "id,text\r\na,\"two\r\nlines\"\r\n,z\r\n", &["c.csv:4"]),
    ] {
        let (_folder, path) = file(name, content);
        let problems = read_corpus(&path).unwrap_err().to_string();
        for part in parts {
            assert!(problems.contains(part), "{content:?} should say {part:?}:\n{problems}");
        }
    }
}

#[test]
fn a_text_that_takes_days_and_a_clip_of_very_many_tags_are_refused() {
    let long = |text: String| format!("{{\"id\":\"a\",\"text\":\"{text}\"}}\n");
    let (_folder, path) = file("c.jsonl", long("a ".repeat((4 << 20) / 2 + 1)));
    assert!(read_corpus(&path).unwrap_err().to_string().contains("4 MiB at most"));
    assert!(read_heard(&path).unwrap_err().to_string().contains("4 MiB at most"));
    let (_folder, path) = file("c.jsonl", long("a ".repeat(1 << 20)));
    assert_eq!(read_corpus(&path).unwrap().clips.len(), 1);
    for (tags, fits) in [(200, true), (201, false)] {
        let tags: BTreeMap<String, String> = (0..tags).map(|at| (format!("t{at}"), at.to_string())).collect();
        let (_folder, path) = file("c.jsonl", serde_json::json!({"id": "a", "text": "x", "tags": tags}).to_string());
        assert_eq!(read_corpus(&path).is_ok(), fits);
    }
}
