//! Broken files: each gets a message with place and remedy, and exit code 2.

use crate::util::{Folder, corpus};

/// A corpus line, and what must be said of it.
const LINES: [(&str, &[&str]); 13] = [
    (r#"{"id":"a","txt":"hold"}"#, &["unknown field \"txt\"", "corpus.jsonl:2", "write \"text\""]),
    (r#"{"id":"a"}"#, &["missing field \"text\"", "corpus.jsonl:2", "add \"text\""]),
    (r#"{"id":"first","text":"again"}"#, &["duplicate id \"first\"", "corpus.jsonl:2", "corpus.jsonl:1"]),
    (r#"{"id":"","text":"x"}"#, &["the id is empty", "field id"]),
    (r#"{"id":"a","text":"go {now"}"#, &["column 4 is never closed", "field text"]),
    (r#"{"id":"a","text":"x","words":[{"text":"x","start":"0.1","end":1}]}"#, &["words[0].start", "a number"]),
    (r#"{"id":"a","text":"x","words":[{"text":"x","start":2,"end":1}]}"#, &["ends at 1 s", "words[0].end"]),
    (r#"{"id":"a","text":"x","words":[{"text":"x","start":-1,"end":1}]}"#, &["starts at -1 s", "words[0].start"]),
    (r#"{"id":"a","text":"x","tags":{"n":1}}"#, &["tags.n", "string"]),
    (r#"{"id":"a","text":"x","audio":"../../etc/passwd"}"#, &["leaves the corpus folder", "field audio"]),
    (r#"{"id":"a","text":"x""#, &["not JSON at column", "corpus.jsonl:2"]),
    (r#"{"id":"a","text":"x"} {"id":"b","text":"y"}"#, &["unexpected text", "corpus.jsonl:2"]),
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
            &["never receives the input it should hear", "fonex.toml:4"],
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
    folder.fonex(&["show"]).expect(2).says(&["no runs in this folder yet", "fonex run"]);
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
    done.says(&[
        "clip absent is left out",
        "clip broken is left out",
        "not a supported audio format",
        "of the 32000 samples",
    ]);
}

#[test]
fn times_and_numbers_that_no_recording_has_are_told_with_their_place() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    let label = |key: &str, start: f64| {
        let word = serde_json::json!({"text": "Hold", "start": start, "end": start + 1.0});
        let clip =
            serde_json::json!({"id": "a", "audio": "audio/any.wav", "text": "Hold at pylon six.", key: [word]});
        folder.write("odd.jsonl", format!("{clip}\n"));
    };
    for key in ["words", "segments"] {
        for start in [1e18, 1e300, -1e18, 1e8] {
            label(key, start);
            for command in
                [&["audio", "odd.jsonl"][..], &["corpus", "check", "odd.jsonl"], &["score", "odd.jsonl", "odd.jsonl"]]
            {
                folder.fonex(command).expect(2).says(&[&format!("{key}[0].start"), "seconds from the start"]);
            }
        }
        // One that lies behind the end of the audio is a complaint of the check, and in no picture.
        label(key, 9e6);
        folder.fonex(&["audio", "odd.jsonl", "-o", "odd.svg"]).expect(0);
    }
    for (field, value, says) in [("start", 1e18, "words[0].start"), ("end", 1e300, "words[0].end")] {
        let word = serde_json::json!({"text": "hold", field: value});
        folder.write("heard.jsonl", format!("{}\n", serde_json::json!({"id": "a", "text": "hold", "words": [word]})));
        folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(2).says(&[says]);
    }
    for took_ms in [-1.0, 1e308] {
        folder.write(
            "heard.jsonl",
            format!("{}\n", serde_json::json!({"id": "a", "text": "hold", "took_ms": took_ms})),
        );
        folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(2).says(&["took_ms"]);
    }
    folder.write("far.srt", "1\n99999:00:00,000 --> 99999:00:01,000\nHold\n\n");
    folder
        .fonex(&["audio", "audio/any.wav", "--captions", "far.srt", "-o", "far.svg"])
        .expect(2)
        .says(&["far.srt:2"]);
}

#[test]
fn a_column_that_stands_twice_and_a_quote_without_end_are_told() {
    let folder = Folder::new();
    folder.write("twice.csv", "id,text,text\na,Hold.,Stop.\n");
    folder
        .fonex(&["corpus", "describe", "twice.csv"])
        .expect(2)
        .says(&["the column \"text\" occurs twice", "twice.csv:1"]);
    // Behind the quote everything is one cell.
    let open = format!("id,text\na,Hold.\nb,\"Stop.\n{}", "c,Hold at pylon six.\n".repeat(2_000_000));
    folder.write("open.csv", open);
    folder.fonex(&["corpus", "describe", "open.csv"]).expect(2).says(&[
        "longer than 32 MiB",
        "open.csv:3",
        "quotation mark",
    ]);
}

#[test]
fn only_plain_files_are_read_and_nobody_is_waited_for() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    let made = std::process::Command::new("mkfifo").arg(folder.path().join("pipe.jsonl")).status().unwrap();
    assert!(made.success());
    for name in ["pipe.csv", "pipe.srt", "pipe.wav", "pipe.toml", "audio/pipe.wav"] {
        std::process::Command::new("mkfifo").arg(folder.path().join(name)).status().unwrap();
    }
    let clip = r#"{"id":"a","audio":"audio/pipe.wav","text":"Hold."}"#;
    folder.write("piped.jsonl", format!("{clip}\n"));
    for (command, code) in [
        (&["corpus", "check", "pipe.jsonl"][..], 2),
        (&["corpus", "describe", "pipe.csv"], 2),
        (&["score", "corpus.jsonl", "pipe.jsonl"], 2),
        (&["audio", "pipe.wav"], 2),
        (&["audio", "audio/any.wav", "--captions", "pipe.srt"], 2),
        (&["captions", "check", "pipe.srt"], 2),
        (&["engine", "list", "--bench", "pipe.toml"], 2),
        (&["audio", "piped.jsonl"], 2),
        (&["corpus", "vary", "pipe.jsonl", "--recipe", "gain=3", "-o", "out"], 2),
    ] {
        folder.fonex(command).expect(code).says(&["it is a pipe"]);
    }
    folder.fonex(&["corpus", "check", "piped.jsonl"]).prints(&["it is a pipe"]);
}

#[test]
fn a_row_of_the_store_that_belongs_to_nothing_is_told() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    let bench = "corpus = \"corpus.jsonl\"\n[engine.e]\ntransport = \"standin\"\ntask = \"hear\"\n[plan.p]\nengines = [\"e\"]\n";
    folder.write("fonex.toml", bench);
    folder.fonex(&["run", "p"]).expect(0);
    let store = rusqlite::Connection::open(folder.path().join(".fonex/runs.db")).unwrap();
    store.execute_batch("delete from facts; update trials set variant = 9").unwrap();
    for command in [&["show"][..], &["compare", "1", "1"], &["report", "1", "-o", "page.html"]] {
        folder.fonex(command).expect(2).says(&["the store is damaged: run 1 has a trial of variant 9"]);
    }
}

#[test]
fn what_others_wrote_does_not_steer_a_terminal() {
    let folder = Folder::new();
    let id = "a\u{1b}]0;evil\u{7}\u{202e}";
    corpus(&folder, &[(id, "Hold \u{1b}[2J at \u{9b}31m six.", "ra\u{0}dio")]);
    let heard = serde_json::json!({"id": id, "text": "hold \u{1b}[2J\u{0} \u{202e}six \u{1b}[1;31m"});
    folder.write("heard.jsonl", format!("{heard}\n"));
    let program = "command = [\"printf\", 'hold \\033[2J \\000 \\342\\200\\256 six']\nstdin = \"audio\"";
    folder.write(
        "fonex.toml",
        format!("corpus = \"corpus.jsonl\"\n[engine.e]\ntransport = \"command\"\ntask = \"hear\"\n{program}\n[plan.p]\nengines = [\"e\"]\n"),
    );
    folder.fonex(&["run", "p"]).expect(0);
    for command in [
        &["score", "corpus.jsonl", "heard.jsonl"][..],
        &["score", "corpus.jsonl", "heard.jsonl", "--format", "markdown"],
        &["score", "corpus.jsonl", "heard.jsonl", "--format", "csv"],
        &["score", "corpus.jsonl", "heard.jsonl", "--format", "json"],
        &["corpus", "check", "corpus.jsonl"],
        &["audio", "corpus.jsonl"],
        &["try", "e", "audio/any.wav"],
        &["show"],
        &["show", "--format", "json"],
    ] {
        let done = folder.fonex(command);
        let steering = |text: &str| text.contains(|c: char| (c.is_control() && c != '\n') || c == '\u{202e}');
        assert!(!steering(&done.out) && !steering(&done.err), "{command:?}:\n{:?}\n{:?}", done.out, done.err);
    }
}

/// A quotation mark in a table either means what it says, or is named with its line: rows are never swallowed.
#[test]
fn stray_quotation_marks_swallow_no_row() {
    let folder = Folder::new();
    let labels = "id\ttext\na\thold at six\nb\t\"go up\nc\tcabin five\nd\tstop\"\ne\t5\" pipe\nf\tnow\n";
    folder.write("corpus.tsv", labels);
    folder.write("heard.tsv", labels);
    folder.fonex(&["score", "corpus.tsv", "heard.tsv"]).expect(0).prints(&["0.0 %", "6 clips"]);
    // A quoted header says that cells are quoted, as in CSV.
    folder.write("quoted.tsv", "\"id\"\t\"text\"\na\t\"hold\tat six\"\n");
    folder.write("plain.jsonl", "{\"id\":\"a\",\"text\":\"hold at six\"}\n");
    folder.fonex(&["score", "quoted.tsv", "plain.jsonl"]).expect(0).prints(&["0.0 %"]);
    folder.write("ok.jsonl", "{\"id\":\"a\",\"text\":\"x\"}\n");
    let cases: [(&str, &str, &[&str]); 4] = [
        ("a.csv", "id,text\na,hold\nb,\"go\nc,up\nd,now\n", &["never closed", "a.csv:3"]),
        (
            "b.csv",
            "id,text\r\na,\"hold\r\nb,x\r\nc,\"stop\r\n",
            &["text follows the closing quotation mark", "line 4", "b.csv:2"],
        ),
        ("c.tsv", "\"id\"\t\"text\"\na\t\"hold\nb\tx\n", &["never closed", "c.tsv:2"]),
        ("d.csv", "id,text\na,\"hold\" at\n", &["text follows", "d.csv:2", "twice"]),
    ];
    for (name, table, expected) in cases {
        folder.write(name, table);
        folder.fonex(&["score", name, "ok.jsonl"]).expect(2).says(expected);
        folder.fonex(&["score", "ok.jsonl", name]).expect(2).says(expected);
    }
}

#[test]
fn a_caption_file_is_no_text_and_a_long_word_takes_no_time() {
    let folder = Folder::new();
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"hold at six\"}\n");
    let srt = "1\\n00:00:01,000 --> 00:00:02,000\\nhold at six\\n";
    folder.write("heard.jsonl", format!("{{\"id\":\"a\",\"text\":\"{srt}\"}}\n"));
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(2).says(&["is a caption file", "heard.jsonl:1"]);
    folder.write("long.jsonl", format!("{{\"id\":\"a\",\"text\":\"{}\"}}\n", "ab".repeat(500_000)));
    let done = folder.fonex(&["score", "corpus.jsonl", "long.jsonl"]).expect(0);
    assert!(done.out.len() < 50_000, "{} bytes", done.out.len());
}
