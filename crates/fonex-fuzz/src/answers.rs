//! Answers of engines: JSON by addresses, streams of events and lines, lines of a worker.

use fonex_core::{Heard, Task};
use fonex_engines::{ResultConfig, fuzzed};
use serde_json::json;

use crate::Target;

pub(crate) const JSON: Target = Target {
    name: "answers",
    ending: "json",
    whole: || {
        vec![
            br#"{"segments":[{"text":"hold at","words":[{"w":"hold","from":120,"to":"0.4s","conf":0.9},{"w":"at","from":400,"to":510,"conf":null}]},{"text":"pylon six","words":[]}]}"#.into(),
            br#"{"text":"hold","words":[{"text":"hold","start":"0:01:02.5","length":"350ms"}],"also":[{"text":"old","confidence":0.2}],"lang":"en","conf":0.5,"usage":{"s":3},"sound":"AAAA"}"#.into(),
        ]
    },
    read: |_, body| {
        let paths = json!({"text": "$.segments[*].text", "words": "$.segments[*].words[*]", "word": {"text": "/w", "start": "/from", "end": "/to", "confidence": "/conf", "unit": "ms"}});
        let pointers = json!({"text": "/text", "words": "/words", "word": {"length": "/length"}, "alternatives": "/also", "lang": "/lang", "confidence": "/conf", "usage": "/usage", "audio": "/sound"});
        for config in [paths, pointers] {
            heard(&config, Task::Hear, body);
        }
        for task in [Task::Reply, Task::Speak] {
            heard(&json!({"as": "json", "audio": "/sound"}), task, body);
        }
        heard(&json!({"as": "text"}), Task::Hear, body);
    },
};

pub(crate) const STREAMS: Target = Target {
    name: "streams",
    ending: "txt",
    whole: || {
        vec![
            b": remark\n\nevent: add\r\ndata: {\"text\":\r\ndata: \"hold\"}\r\n\r\nid: 7\rdata:{\"text\":\"at\",\"sound\":\"AAAA\"}\r\rdata: [END]\n\n".into(),
            b"{\"text\":\"hold\"}\n{\"text\":\"hold at\",\"usage\":1}\n[END]".into(),
        ]
    },
    read: |_, body| {
        for form in ["events", "lines"] {
            heard(&json!({"as": form}), Task::Hear, body);
            heard(
                &json!({"as": form, "steps": "add", "end_mark": "[END]", "text_may_be_absent": true}),
                Task::Reply,
                body,
            );
            heard(&json!({"as": form, "audio": "/sound", "events": ["add"]}), Task::Speak, body);
        }
    },
};

pub(crate) const LINES: Target = Target {
    name: "lines",
    ending: "jsonl",
    whole: || {
        vec![
            br#"{"id":1,"text":"hold at","words":[{"text":"hold","start":0.1,"end":0.4}],"alternatives":[{"text":"old"}],"lang":"en","usage":{"s":1}}"#.into(),
            br#"{"id":1,"outcome":"refused","detail":"no","audio_base64":"AAAA"}"#.into(),
            br#"{"ready":1,"name":"a worker"}"#.into(),
        ]
    },
    read: |_, bytes| {
        let text = String::from_utf8_lossy(bytes);
        text.lines().take(20).for_each(|line| drop(fuzzed::worker_line(line)));
    },
};

/// What was heard by a `result` of a bench file: its times and confidences are numbers.
fn heard(config: &serde_json::Value, task: Task, body: &[u8]) {
    let config: ResultConfig = serde_json::from_value(config.clone()).expect("it is whole");
    let Ok((Heard { words, confidence, .. }, _)) = fuzzed::answer(&config, task, body) else { return };
    let times = words.iter().flat_map(|word| [word.start, word.end, word.confidence]).flatten();
    for number in times.chain(confidence) {
        assert!(number.is_finite(), "{number}");
    }
}
