//! Labels and results in many files, which are read as one: folders of JSON Lines, and Parquet where it is built in.

use serde_json::Value;

use crate::parts::{assert_alike, merged, write_set};
use crate::util::Folder;

/// Lines of a file dealt out to some files, in another order.
fn deal(folder: &Folder, from: &str, to: &str, files: usize, step: usize) {
    let text = folder.read(from);
    let lines: Vec<&str> = text.lines().collect();
    let order = (0..lines.len()).map(|at| lines[(at * step + 3) % lines.len()]);
    let mut dealt = vec![String::new(); files];
    order.enumerate().for_each(|(at, line)| dealt[at * files / lines.len()] += &format!("{line}\r\n"));
    for (at, text) in dealt.iter().enumerate() {
        // The last line of a file may be without an end, and its first with a mark of its encoding.
        folder.write(&format!("{to}/part-{at:02}.jsonl"), format!("\u{feff}{}", text.trim_end()));
    }
    folder.write(&format!("{to}/_SUCCESS"), "");
    folder.write(&format!("{to}/.part-00.jsonl.crc"), "x");
}

#[test]
fn a_folder_of_lines_is_the_file_they_came_from() {
    let folder = Folder::new();
    write_set(&folder, 500);
    deal(&folder, "corpus.jsonl", "corpus", 7, 1);
    deal(&folder, "heard.jsonl", "heard", 5, 7);
    let score = |corpus: &str, heard: &str| -> Value {
        folder.fonex(&["score", corpus, heard, "--format", "json"]).expect(0).json()
    };
    let whole = score("corpus.jsonl", "heard.jsonl");
    assert_alike(&without_paths(score("corpus", "heard")), &without_paths(whole.clone()), "");
    assert_alike(&without_paths(score("corpus.jsonl", "heard")), &without_paths(whole.clone()), "");
    let parts: Vec<String> = (1..=3)
        .map(|part| {
            let (share, name) = (format!("{part}/3"), format!("{part}.part"));
            folder.fonex(&["score", "corpus", "heard", "--part", &share, "-o", &name]).expect(0);
            name
        })
        .collect();
    assert_alike(&without_paths(merged(&folder, &parts)), &without_paths(whole), "");

    // What is wrong is told with the file it stands in, and its line there.
    let line = "{\"id\":\"clip-1\",\"text\":\"twice\"}\n";
    folder.write("corpus/part-99.jsonl", format!("\n{line}"));
    let done = folder.fonex(&["score", "corpus", "heard"]).expect(2);
    done.says(&["part-99.jsonl:2", "duplicate id \"clip-1\"", "part-06.jsonl:70"]);
    folder.write("corpus/part-99.jsonl", format!("{{\"id\":\"new\",\"text\":\"a\"}}\n{}", "{\"id\":3}\n"));
    folder.fonex(&["score", "corpus", "heard"]).expect(2).says(&["part-99.jsonl:2"]);
    folder.write("empty/a.md", "");
    folder.fonex(&["score", "empty", "heard"]).expect(2).says(&["holds no clip"]);
}

/// A score as JSON without the names of its files.
fn without_paths(mut score: Value) -> Value {
    for name in ["corpus", "heard"] {
        if let Some(object) = score.as_object_mut() {
            object.remove(name);
        }
    }
    score
}

#[cfg(not(feature = "parquet"))]
#[test]
fn labels_as_parquet_need_a_build_with_it() {
    let folder = Folder::new();
    write_set(&folder, 3);
    folder.write("corpus.parquet", "PAR1");
    folder
        .fonex(&["score", "corpus.parquet", "heard.jsonl"])
        .expect(2)
        .says(&["--features parquet", "corpus.parquet"]);
}

#[cfg(feature = "parquet")]
mod parquet_input {
    use std::sync::Arc;

    use parquet::data_type::{ByteArray, ByteArrayType};
    use parquet::file::writer::SerializedFileWriter;
    use parquet::schema::parser::parse_message_type;

    use super::*;

    /// A file of text columns, each value of which may be absent.
    fn write(path: &std::path::Path, columns: &[&str], kind: &str, rows: &[Vec<Option<String>>]) {
        let fields: String = columns.iter().map(|name| format!("optional binary {name} {kind};")).collect();
        let schema = Arc::new(parse_message_type(&format!("message m {{ {fields} }}")).unwrap());
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let file = std::fs::File::create(path).unwrap();
        let mut writer = SerializedFileWriter::new(file, schema, Arc::default()).unwrap();
        let mut group = writer.next_row_group().unwrap();
        for at in 0..columns.len() {
            let mut column = group.next_column().unwrap().unwrap();
            let there: Vec<i16> = rows.iter().map(|row| i16::from(row[at].is_some())).collect();
            let values: Vec<ByteArray> =
                rows.iter().filter_map(|row| row[at].as_ref().map(|text| ByteArray::from(text.as_str()))).collect();
            column.typed::<ByteArrayType>().write_batch(&values, Some(&there), None).unwrap();
            column.close().unwrap();
        }
        group.close().unwrap();
        writer.close().unwrap();
    }

    /// The texts of both files, as rows of files in folders that name the channel.
    fn as_parquet(folder: &Folder) {
        for (at, channel) in ["radio", "desk"].into_iter().enumerate() {
            let rows: Vec<Vec<Option<String>>> = folder
                .read("corpus.jsonl")
                .lines()
                .map(|line| serde_json::from_str::<Value>(line).unwrap())
                .filter(|clip| clip["tags"]["channel"] == channel)
                .map(|clip| ["id", "text", "lang"].map(|key| clip[key].as_str().map(str::to_owned)).into())
                .collect();
            let path = folder.path().join(format!("corpus/channel={channel}/part-{at}.parquet"));
            write(&path, &["id", "text", "lang"], "(STRING)", &rows);
        }
        let rows: Vec<Vec<Option<String>>> = folder
            .read("heard.jsonl")
            .lines()
            .map(|line| serde_json::from_str::<Value>(line).unwrap())
            .map(|heard| ["id", "text"].map(|key| heard[key].as_str().map(str::to_owned)).into())
            .collect();
        write(&folder.path().join("heard.parquet"), &["id", "text"], "(UTF8)", &rows);
        // What folders of results are named says nothing of a result.
        write(&folder.path().join("heard/channel=any/0.parquet"), &["id", "text"], "(STRING)", &rows);
    }

    #[test]
    fn rows_score_as_lines_do() {
        let folder = Folder::new();
        write_set(&folder, 400);
        as_parquet(&folder);
        let keep = |name: &str, keys: &[&str]| {
            let kept = folder.read(name).lines().fold(String::new(), |text, line| {
                let mut record: Value = serde_json::from_str(line).unwrap();
                record.as_object_mut().unwrap().retain(|key, _| keys.contains(&key.as_str()));
                format!("{text}{record}\n")
            });
            folder.write(name, kept);
        };
        keep("corpus.jsonl", &["id", "text", "lang", "tags"]);
        keep("heard.jsonl", &["id", "text"]);
        let score = |corpus: &str, heard: &str| -> Value {
            folder.fonex(&["score", corpus, heard, "--format", "json"]).expect(0).json()
        };
        let whole = score("corpus.jsonl", "heard.jsonl");
        assert!(whole["slices"].to_string().contains("radio"), "sliced by the folders' names: {whole}");
        for heard in ["heard.parquet", "heard"] {
            assert_alike(&without_paths(score("corpus", heard)), &without_paths(whole.clone()), "");
        }
        let parts: Vec<String> = (1..=3)
            .map(|part| {
                let (share, name) = (format!("{part}/3"), format!("{part}.part"));
                folder.fonex(&["score", "corpus", "heard.parquet", "--part", &share, "-o", &name]).expect(0);
                name
            })
            .collect();
        assert_alike(&without_paths(merged(&folder, &parts)), &without_paths(whole), "");
    }

    #[test]
    fn what_is_wrong_with_a_file_or_a_row_is_told() {
        let folder = Folder::new();
        write_set(&folder, 20);
        let path = folder.path().join("labels.parquet");
        let row = |id: &str, text: Option<&str>| vec![Some(id.to_owned()), text.map(str::to_owned)];
        let says = |what: &[&str]| {
            folder.fonex(&["score", "labels.parquet", "heard.jsonl"]).expect(2).says(what);
        };
        write(&path, &["id", "text"], "(STRING)", &[row("a", Some("b")), row("c", None), row("a", Some("d"))]);
        says(&["labels.parquet:2", "text"]);
        write(&path, &["id", "text"], "(STRING)", &[row("a", Some("b")), row("a", Some("d"))]);
        says(&["labels.parquet:2", "duplicate id"]);
        write(&path, &["id", "speech"], "(STRING)", &[row("a", Some("b"))]);
        says(&["labels.parquet:1", "speech"]);
        write(&path, &["id", "text"], "", &[row("a", Some("b"))]);
        says(&["bytes, not text", "id"]);
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, &whole[..whole.len() / 2]).unwrap();
        says(&["Parquet file cannot be read", "labels.parquet"]);
        std::fs::write(&path, "").unwrap();
        says(&["Parquet file cannot be read"]);
    }
}
