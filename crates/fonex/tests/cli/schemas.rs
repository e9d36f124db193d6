//! The forms of files: each can be printed, refers to nothing that it lacks, and says what every field of a file is that people
//! write.

use std::collections::BTreeSet;

use serde_json::Value;

use crate::util::Folder;

/// Every value in a schema, with itself.
fn each(value: &Value, with: &mut impl FnMut(&Value)) {
    with(value);
    match value {
        Value::Object(fields) => fields.values().for_each(|inner| each(inner, with)),
        Value::Array(items) => items.iter().for_each(|inner| each(inner, with)),
        _ => {}
    }
}

#[test]
fn every_form_is_printed_and_whole() {
    let folder = Folder::new();
    let names: Vec<String> = folder.fonex(&["schema", "--format", "json"]).expect(0).json();
    assert_eq!(names.iter().collect::<BTreeSet<_>>().len(), names.len(), "a name stands twice");
    for name in &names {
        let schema: Value = folder.fonex(&["schema", name]).expect(0).json();
        assert_eq!(schema["$schema"], "https://json-schema.org/draft/2020-12/schema", "{name}");
        each(&schema, &mut |value| {
            let Some(reference) = value.get("$ref").and_then(Value::as_str) else { return };
            let pointer = reference.strip_prefix('#').unwrap();
            assert!(schema.pointer(pointer).is_some(), "{name} refers to {reference}");
        });
    }
    for name in ["corpus", "heard", "bench", "baseline", "ratings"] {
        let schema: Value = folder.fonex(&["schema", name]).expect(0).json();
        let strict = |value: &Value| value["additionalProperties"] == false || value["oneOf"].is_array();
        assert!(strict(&schema), "{name} takes unknown fields");
        let undocumented = |properties: &Value| -> Vec<String> {
            let fields = properties.as_object().into_iter().flatten();
            fields.filter(|(_, field)| field["description"].is_null()).map(|(field, _)| field.clone()).collect()
        };
        assert!(undocumented(&schema["properties"]).is_empty(), "{name}: {:?}", undocumented(&schema["properties"]));
    }
    let bench: Value = folder.fonex(&["schema", "bench"]).expect(0).json();
    let transports: Vec<&str> = bench["$defs"]["EngineTable"]["oneOf"]
        .as_array()
        .unwrap()
        .iter()
        .map(|kind| kind["properties"]["transport"]["const"].as_str().unwrap())
        .collect();
    assert_eq!(transports, ["command", "worker", "http", "socket", "recorded", "standin"]);
    folder
        .fonex(&["schema", "corpus", "--format", "markdown"])
        .expect(0)
        .prints(&["| `terms` | list of string (optional)"]);
    folder.fonex(&["schema", "corpus", "--format", "csv"]).expect(0).prints(&["object,field,type,required,about"]);
    folder.fonex(&["schema", "corpse"]).expect(2).says(&["corpus"]);
    let all = folder.fonex(&["schema", "--all"]).expect(0).out;
    assert!(names.iter().all(|name| all.contains(&format!("## {name}\n"))));
    assert!(names.iter().all(|name| all.contains(&format!("| [{name}](#{name}) | "))), "each is in the contents");
}

#[test]
fn every_command_has_its_page_of_the_manual() {
    let folder = Folder::new();
    folder.fonex(&["manual", "pages"]).expect(0).says(&["pages to pages"]);
    for page in ["fonex", "fonex-run", "fonex-corpus-check", "fonex-watch"] {
        let text = folder.read(&format!("pages/{page}.1"));
        assert!(text.contains(".SH NAME") && text.contains(page.replace('-', "\\-").as_str()), "{page}\n{text}");
    }
    folder.write("taken", "");
    folder.fonex(&["manual", "taken"]).expect(2).says(&["taken"]);
}

#[test]
fn quiet_and_colour_are_as_asked() {
    let folder = Folder::new();
    let loud = folder.fonex(&["manual", "pages"]).expect(0);
    let quiet = folder.fonex(&["manual", "pages", "--quiet"]).expect(0);
    assert!(!loud.err.is_empty() && quiet.err.is_empty());
    folder.fonex(&["-q", "show", "1"]).expect(2).says(&["error:"]);
    let score = |colour: &str| {
        folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"hold at six\"}\n");
        folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"hold at sex\"}\n");
        folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--worst", "1", "--color", colour]).expect(0).out
    };
    assert!(
        score("always").contains('\u{1b}') && !score("never").contains('\u{1b}') && !score("auto").contains('\u{1b}')
    );
    folder.fonex(&["measures", "--color", "mauve"]).expect(2).says(&["always"]);
}
