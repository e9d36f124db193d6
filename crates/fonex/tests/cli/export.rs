//! Runs that leave a store, as tables and whole, and come into another.

use std::fs;

use serde_json::{Value, json};

use crate::util::{Folder, corpus};

/// A run of a recogniser and of a voice, whose audio is kept.
fn world() -> Folder {
    let folder = Folder::new();
    corpus(
        &folder,
        &[
            ("a", "hold at pylon six", "radio"),
            ("b", "the \"red\" line, stop", "radio"),
            ("c", "doors are closing", "cabin"),
        ],
    );
    let heard = [("a", "hold at pylon ten"), ("b", "the \"red\" line stop"), ("c", "doors closing now")];
    let lines: String =
        heard.iter().map(|(id, text)| json!({"id": id, "text": text, "took_ms": 7}).to_string() + "\n").collect();
    folder.write("r.jsonl", lines);
    folder.write(
        "fonex.toml",
        "corpus = \"corpus.jsonl\"\n[engine.ear]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"r.jsonl\"\n\
         [engine.mouth]\ntransport = \"standin\"\ntask = \"speak\"\nvoices = [\"Ann\"]\n\
         [plan.ears]\nengines = [\"ear\"]\n[plan.voices]\nengines = [\"mouth\"]\n",
    );
    folder.fonex(&["run", "ears", "--label", "first"]).expect(0);
    folder.fonex(&["run", "voices"]).expect(0);
    folder
}

fn lines(text: &str) -> Vec<Value> {
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn a_run_goes_from_one_store_to_another_and_says_the_same_there() {
    let (here, there) = (world(), Folder::new());
    for run in ["1", "2"] {
        let file = there.path().join(format!("{run}.jsonl"));
        here.fonex(&["export", run, "-o", file.to_str().unwrap()]).expect(0).says(&["Wrote"]);
    }
    there.fonex(&["import", "1.jsonl"]).expect(0).says(&["Run 1 of another store is run 1 here", "3 trials"]);
    there.fonex(&["import", "2.jsonl", "--label", "voices"]).expect(0);
    for (run, other) in [("1", "first"), ("2", "voices")] {
        let show = |folder: &Folder, run: &str| -> Value {
            let mut shown: Value = folder.fonex(&["show", run, "--format", "json"]).expect(0).json();
            shown["run"]["label"] = Value::Null;
            shown
        };
        assert_eq!(show(&here, run), show(&there, other));
    }
    let audio = |folder: &Folder| {
        let files = fs::read_dir(folder.path().join(".fonex/audio")).unwrap().map(|file| file.unwrap().file_name());
        let mut files: Vec<_> = files.collect();
        files.sort();
        files
    };
    assert_eq!(audio(&here), audio(&there));
    // What comes out of the other store is what went in.
    there.fonex(&["export", "1", "-o", "again.jsonl"]).expect(0);
    assert_eq!(there.read("again.jsonl"), there.read("1.jsonl"));
    there.fonex(&["import", "1.jsonl"]).expect(2).says(&["has this run already, as run 1", "--again"]);
    there.fonex(&["import", "1.jsonl", "--again"]).expect(0);
    let without = here.fonex(&["export", "2", "--without-audio"]).expect(0).out;
    assert!(!without.contains("base64"));
}

#[test]
fn files_that_are_no_whole_run_leave_nothing_behind() {
    let (here, there) = (world(), Folder::new());
    let whole = here.fonex(&["export", "2"]).expect(0).out;
    let rows: Vec<&str> = whole.lines().collect();
    let without_last: String = rows[..rows.len() - 1].iter().map(|line| format!("{line}\n")).collect();
    for (text, wanted) in [
        (whole[..whole.len() - 30].to_owned(), "ends before its last audio file"),
        (without_last, "ends before its last audio file"),
        (whole.replace("\"fonex_run\":1", "\"fonex_run\":3"), "exported by a newer Fonex"),
        (whole.replace("doors are closing", "doors are open"), "the labels are not those of the run's corpus"),
        (whole.replace(".flac\"", ".flac/../../x\""), "is no name of an audio file"),
        (whole.replace("\"base64\":\"", "\"base64\":\"AAAA"), "the audio is not what its name says"),
        (whole.replace("\"variant\":0", "\"variant\":7"), "a trial of variant 7, but the run has 1"),
        (whole.replace("\"outcome\":\"done\"", "\"outcome\":\"great\""), "x.jsonl:5"),
        (format!("{whole}{{}}\n"), "goes on behind its last line"),
        ("{}\n".to_owned(), "no exported run"),
        (String::new(), "no exported run"),
        (here.read("corpus.jsonl"), "no exported run"),
    ] {
        assert_ne!(text, whole);
        there.write("x.jsonl", text);
        there.fonex(&["import", "x.jsonl"]).expect(2).says(&[wanted]);
    }
    let left = fs::read_dir(there.path().join(".fonex/audio")).map_or(0, Iterator::count);
    assert_eq!(left, 0);
    let runs: Vec<Value> = there.fonex(&["runs", "--format", "json"]).expect(0).json();
    assert!(runs.is_empty(), "{runs:?}");
    there.fonex(&["import", "nowhere.jsonl"]).expect(2).says(&["cannot read the file"]);
}

#[test]
fn tables_add_up_to_the_figures() {
    let folder = world();
    let trials = lines(&folder.fonex(&["export", "first", "--of", "trials"]).expect(0).out);
    let sum = |field: &str| trials.iter().map(|trial| trial[field].as_u64().unwrap()).sum::<u64>();
    let score: Value = folder.fonex(&["score", "corpus.jsonl", "r.jsonl", "--format", "json"]).expect(0).json();
    for field in ["substituted", "deleted", "inserted"] {
        assert_eq!(score["words"][field], sum(field), "{field}");
    }
    assert_eq!(trials[0]["tags"], json!({"channel": "radio"}));
    let words = lines(&folder.fonex(&["export", "first", "--of", "words"]).expect(0).out);
    let wrong = words.iter().filter(|word| word["edit"] != "correct").count() as u64;
    assert_eq!(wrong, sum("substituted") + sum("deleted") + sum("inserted"));
    let facts = lines(&folder.fonex(&["export", "first", "--of", "facts"]).expect(0).out);
    let counted = facts.iter().filter(|fact| fact["fact"] == "words").map(|fact| fact["rows"][0].clone());
    let errors: f64 = counted.map(|row| (1..4).map(|at| row[at].as_f64().unwrap()).sum::<f64>()).sum();
    assert_eq!(errors, wrong as f64);
    let measures = lines(&folder.fonex(&["export", "first", "--of", "measures"]).expect(0).out);
    let wer = measures.iter().find(|m| m["measure"] == "wer" && m["slice"].is_null()).unwrap();
    assert_eq!(wer["value"], score["words"]["wer"]);
    assert!(measures.iter().any(|m| m["measure"] == "wer" && m["slice"] == "channel=radio"));
}

#[test]
fn csv_and_open_metrics_are_read_by_others() {
    let folder = world();
    folder.fonex(&["export", "first", "--of", "trials", "-o", "t.csv"]).expect(0);
    let mut reader = csv::Reader::from_path(folder.path().join("t.csv")).unwrap();
    let column = reader.headers().unwrap().iter().position(|name| name == "label").unwrap();
    let labels: Vec<String> = reader.records().map(|row| row.unwrap()[column].to_owned()).collect();
    assert_eq!(labels, ["hold at pylon six", "the \"red\" line, stop", "doors are closing"]);
    folder.fonex(&["runs", "relabel", "first", "we\"ek\\1"]).expect(0);
    let text = folder.fonex(&["export", "1", "--of", "measures", "--form", "openmetrics"]).expect(0).out;
    assert!(text.ends_with("# EOF\n") && text.contains("# TYPE fonex_wer gauge\n"), "{text}");
    assert!(text.contains("fonex_wer{run=\"1\",label=\"we\\\"ek\\\\1\",plan=\"ears\",variant=\"ear\"} 0."), "{text}");
    // Every family stands together, and says its type once.
    let mut families: Vec<&str> = Vec::new();
    for line in text.lines().filter(|line| line.starts_with("# TYPE")) {
        assert!(!families.contains(&line), "{line}");
        families.push(line);
    }
    for (words, wanted) in [
        (vec!["export", "1", "-o", "x.xlsx"], "what form is .xlsx?"),
        (vec!["export", "1", "--form", "csv"], "a whole run is exported as JSON Lines only"),
        (vec!["export", "1", "--of", "words", "--form", "openmetrics"], "OpenMetrics holds figures"),
        (vec!["export", "1", "--of", "trials", "--without-audio"], "only a whole run holds audio"),
        (vec!["export", "9"], "there is no run \"9\""),
        (vec!["export", "1", "-o", "nowhere/x.jsonl"], "nowhere/x.jsonl"),
    ] {
        folder.fonex(&words).expect(2).says(&[wanted]);
    }
}

#[cfg(not(feature = "parquet"))]
#[test]
fn without_parquet_it_is_said_how_to_have_it() {
    let folder = world();
    folder.fonex(&["export", "1", "--of", "trials", "-o", "t.parquet"]).expect(2).says(&["--features parquet"]);
    assert!(!folder.path().join("t.parquet").exists());
}

#[cfg(feature = "parquet")]
#[test]
fn a_parquet_file_has_the_sums_of_the_lines() {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    use parquet::record::Field;
    let folder = world();
    for (table, column) in [
        ("trials", "substituted"),
        ("trials", "took_ms"),
        ("words", "at"),
        ("facts", "number"),
        ("measures", "value"),
    ] {
        folder.fonex(&["export", "1", "--of", table, "-o", "t.parquet"]).expect(0);
        let lines = folder.fonex(&["export", "1", "--of", table]).expect(0).out;
        let lines: Vec<serde_json::Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        let of_line = |line: &serde_json::Value| match column {
            "number" => line["rows"]
                .as_array()
                .unwrap()
                .iter()
                .flat_map(|row| row.as_array().unwrap())
                .map(|n| n.as_f64().unwrap())
                .sum(),
            other => line[other].as_f64().unwrap_or(0.0),
        };
        let file = std::fs::File::open(folder.path().join("t.parquet")).unwrap();
        let (mut rows, mut sum) = (0, 0.0);
        for row in SerializedFileReader::new(file).unwrap().get_row_iter(None).unwrap() {
            rows += 1;
            for (name, field) in row.unwrap().get_column_iter() {
                match field {
                    Field::Long(count) if name == column => sum += *count as f64,
                    Field::Double(number) if name == column => sum += number,
                    _ => {}
                }
            }
        }
        let whole: f64 = lines.iter().map(of_line).sum();
        assert!((sum - whole).abs() <= 1e-9 * whole.abs(), "{table} {column}: {sum} {whole}");
        assert!(rows >= lines.len(), "{table}: {rows} rows of {} lines", lines.len());
    }
    folder.fonex(&["export", "1", "--of", "trials", "--form", "parquet"]).expect(2).says(&["-o"]);
    folder.fonex(&["export", "1", "-o", "t.parquet"]).expect(2).says(&["JSON Lines only"]);
}
