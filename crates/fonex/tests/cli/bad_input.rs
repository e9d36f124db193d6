//! Broken files: each gets a message with place and remedy, and exit code 2.

use crate::util::{Folder, corpus};

/// A corpus line, and what must be said of it.
const LINES: [(&str, &[&str]); 13] = [
    (r#"{"id":"a","txt":"hold"}"#, &["unknown field \"txt\"", "corpus.jsonl:2", "write \"text\""]),
    (r#"{"id":"a"}"#, &["missing field \"text\"", "corpus.jsonl:2", "add \"text\""]),
    (r#"{"id":"first","text":"again"}"#, &["the id \"first\" is taken", "corpus.jsonl:2", "corpus.jsonl:1"]),
    (r#"{"id":"","text":"x"}"#, &["the id is empty", "field id"]),
    (r#"{"id":"a","text":"go {now"}"#, &["column 4 is never closed", "field text"]),
    (r#"{"id":"a","text":"x","words":[{"text":"x","start":"0.1","end":1}]}"#, &["words[0].start", "f64"]),
    (r#"{"id":"a","text":"x","words":[{"text":"x","start":2,"end":1}]}"#, &["ends at 1 s", "words[0].end"]),
    (r#"{"id":"a","text":"x","words":[{"text":"x","start":-1,"end":1}]}"#, &["starts at -1 s", "words[0].start"]),
    (r#"{"id":"a","text":"x","tags":{"n":1}}"#, &["tags.n", "string"]),
    (r#"{"id":"a","text":"x","audio":"../../etc/passwd"}"#, &["leaves the corpus folder", "field audio"]),
    (r#"{"id":"a","text":"x""#, &["not JSON at column", "corpus.jsonl:2"]),
    (r#"{"id":"a","text":"x"} {"id":"b","text":"y"}"#, &["something follows", "corpus.jsonl:2"]),
    (r#"{"id":"a","text":"\ud800"}"#, &["not JSON", "corpus.jsonl:2"]),
];

#[test]
fn broken_corpus_lines_name_file_line_and_field() {
    for (line, expected) in LINES {
        let folder = Folder::new();
        folder.write("corpus.jsonl", format!("{{\"id\":\"first\",\"text\":\"ok\"}}\n{line}\n"));
        folder.write("heard.jsonl", "");
        folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(2).says(expected);
    }
}

#[test]
fn every_broken_line_is_told_at_once() {
    let folder = Folder::new();
    let bad = "{\"id\":\"x\",\"tex\":\"a\"}\n".repeat(14);
    folder.write("corpus.jsonl", bad);
    folder.write("heard.jsonl", "");
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(2).says(&["corpus.jsonl:10", "4 more like these"]);
}

#[test]
fn files_that_cannot_be_read() {
    let folder = Folder::new();
    folder.write("ok.jsonl", "{\"id\":\"a\",\"text\":\"x\"}\n");
    folder.write("latin.jsonl", b"{\"id\":\"a\",\"text\":\"\xe9\"}\n");
    folder.write("empty.jsonl", "\n\n");
    folder.write("wide.csv", "id,text\na,b,c\n");
    folder.write("column.csv", "id,txt\na,b\n");
    folder.write("two/a.txt", "x");
    folder.write("two/a.srt", "1\n00:00:00,000 --> 00:00:01,000\nx\n");
    let cases: [(&str, &str, &[&str]); 7] = [
        ("absent.jsonl", "ok.jsonl", &["no such file", "absent.jsonl", "check the path"]),
        ("latin.jsonl", "ok.jsonl", &["byte 19 of the line is not UTF-8", "latin.jsonl:1"]),
        ("empty.jsonl", "ok.jsonl", &["holds no clip"]),
        ("wide.csv", "ok.jsonl", &["the row has 3 cells", "wide.csv:2", "2, as in the header"]),
        ("column.csv", "ok.jsonl", &["unknown column \"txt\"", "write \"text\"", "no column \"text\""]),
        ("two", "ok.jsonl", &["\"a\" has two texts"]),
        ("ok.jsonl", "ok.csv", &["no such file", "ok.csv"]),
    ];
    for (corpus, heard, expected) in cases {
        folder.fonex(&["score", corpus, heard]).expect(2).says(expected);
    }
    folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"x\",\"words\":[{\"text\":\"x\",\"confidence\":1.5}]}\n{\"id\":\"a\",\"text\":\"y\"}\n");
    folder.fonex(&["score", "ok.jsonl", "heard.jsonl"]).expect(2).says(&[
        "1.5",
        "heard.jsonl:1",
        "second result",
        "heard.jsonl:2",
    ]);
}

const ENGINE: &str = "corpus = \"corpus.jsonl\"\n[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\n";

#[test]
fn broken_bench_files_name_the_line() {
    let cases: [(String, &[&str]); 12] = [
        ("corpus = \n".into(), &["fonex.toml:1"]),
        (format!("sed = 1\n{ENGINE}"), &["unknown field \"sed\"", "fonex.toml:1", "write \"seed\""]),
        (format!("{ENGINE}modles = [\"a\"]\n"), &["unknown field \"modles\"", "fonex.toml:5", "write \"models\""]),
        (ENGINE.replace("standin", "comand"), &["transport \"comand\"", "fonex.toml:3", "write \"command\""]),
        (ENGINE.replace("hear", "listen"), &["listen", "fonex.toml:4", "hear"]),
        (
            format!("{ENGINE}[plan.p]\nengines = [\"mral\"]\n"),
            &["\"mral\" that is not in the bench file", "fonex.toml:6", "write \"marl\""],
        ),
        (
            format!("{ENGINE}[plan.p]\nengines = [\"marl\"]\nmodels = [\"x\"]\n"),
            &["no engine of the plan", "fonex.toml:7"],
        ),
        (format!("{ENGINE}[plan.p]\nengines = [\"marl\"]\nrepeats = 0\n"), &["repeats = 0", "fonex.toml:7"]),
        (
            format!("{ENGINE}[plan.p]\nengines = [\"marl\"]\nselect = {{ channel = \"none\" }}\n"),
            &["select matches no clip"],
        ),
        (
            "[engine.e]\ntransport=\"command\"\ntask=\"hear\"\ncommand=[\"x\",\"{adio}\"]\n".into(),
            &["{adio}", "fonex.toml:4", "write \"{audio}\""],
        ),
        (
            "[engine.e]\ntransport=\"command\"\ntask=\"hear\"\ncommand=[\"x\"]\n".into(),
            &["never given what it should hear", "fonex.toml:4"],
        ),
        (
            "[engine.e]\ntransport=\"command\"\ntask=\"hear\"\ncommand=[\"x\",\"{audio}\"]\nresult={text=\"/a\"}\n"
                .into(),
            &["an address is for JSON only", "fonex.toml:5"],
        ),
    ];
    for (bench, expected) in cases {
        let folder = Folder::new();
        corpus(&folder, &[("a", "hold", "radio")]);
        folder.write("fonex.toml", bench);
        folder.fonex(&["run"]).expect(2).says(expected);
        assert!(!folder.path().join(".fonex/runs.db").exists() || expected[0].contains("select"), "nothing starts");
    }
    let folder = Folder::new();
    folder.fonex(&["run"]).expect(2).says(&["no bench file", "fonex init"]);
    folder.fonex(&["show"]).expect(2).says(&["no runs here yet", "fonex run"]);
    folder.fonex(&["run", "--set", "x"]).expect(2);
}

#[test]
fn audio_that_cannot_be_used_is_left_out_and_the_rest_runs() {
    let folder = Folder::new();
    corpus(
        &folder,
        &[
            ("good", "hold at pylon", "radio"),
            ("absent", "x", "radio"),
            ("broken", "y", "radio"),
            ("short", "z", "radio"),
        ],
    );
    let wav = std::fs::read(folder.path().join("audio/any.wav")).unwrap();
    folder.write("audio/broken.wav", "these are no samples");
    folder.write("audio/short.wav", &wav[..wav.len() / 2]);
    let labels = folder.read("corpus.jsonl");
    let lines = labels.lines().map(|line| {
        let id = ["absent", "broken", "short"].into_iter().find(|id| line.contains(&format!("\"{id}\"")));
        id.map_or_else(|| line.to_owned(), |id| line.replace("any.wav", &format!("{id}.wav"))) + "\n"
    });
    folder.write("corpus.jsonl", lines.collect::<String>());
    folder.write("fonex.toml", format!("{ENGINE}[plan.p]\nengines = [\"marl\"]\n"));
    let done = folder.fonex(&["run", "--format", "json"]).expect(3);
    let view: serde_json::Value = done.json();
    assert_eq!(view["run"]["left_out"].as_array().unwrap().len(), 3);
    assert_eq!(view["variants"][0]["trials"], 1);
    done.says(&["clip absent is left out", "clip broken is left out", "not an audio format", "of the 32000 samples"]);
}
