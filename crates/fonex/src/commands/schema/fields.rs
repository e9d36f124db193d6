//! A schema as tables of fields, which people read.

use schemars::Schema;
use serde_json::{Map, Value};

use crate::output::{Cell, Table, capital};

/// What there is, by name and what it is, each with a link to its page.
pub fn contents<'a>(known: impl Iterator<Item = (&'a str, &'a str)>) -> String {
    let rows = known.map(|(name, about)| format!("| [{name}](#{name}) | {} |\n", capital(about)));
    std::iter::once("| name | what it is |\n|---|---|\n".to_owned()).chain(rows).collect()
}

/// One page: what it is, its fields, and those of each object in it.
pub fn page(name: &str, about: &str, schema: &Schema) -> String {
    let mut text = format!("## {name}\n\n{}.\n", capital(about));
    for (object, fields) in objects(schema) {
        if !object.is_empty() {
            text += &format!("\n### {name}: {object}\n");
        }
        text += "\n| field | type | |\n|---|---|---|\n";
        for field in fields {
            let optional = if field.required { "" } else { " (optional)" };
            text += &format!("| `{}` | {}{optional} | {} |\n", field.name, field.kind, field.about);
        }
    }
    text
}

/// Every field of a schema.
pub fn table(schema: &Schema) -> Table {
    let mut table = Table::new([("object", 0), ("field", 0), ("type", 0), ("required", 0), ("about", 0)]);
    for (object, fields) in objects(schema) {
        for field in fields {
            let required = if field.required { "yes" } else { "no" };
            let cells = [object.as_str(), &field.name, &field.kind, required, &field.about];
            table.row(cells.map(Cell::text));
        }
    }
    table
}

struct Field {
    name: String,
    kind: String,
    required: bool,
    about: String,
}

/// The objects of a schema, the root first, each with its fields. What is a choice of objects has one entry a choice.
fn objects(schema: &Schema) -> Vec<(String, Vec<Field>)> {
    let mut objects = Vec::new();
    let root = schema.as_value();
    // The root of a list is what is listed.
    let item = root.get("items").unwrap_or(root);
    add(&mut objects, "", item);
    let none = Map::new();
    for (name, inner) in root.get("$defs").and_then(Value::as_object).unwrap_or(&none) {
        add(&mut objects, name, inner);
    }
    objects
}

fn add(objects: &mut Vec<(String, Vec<Field>)>, name: &str, schema: &Value) {
    if let Some(properties) = schema.get("properties").and_then(Value::as_object) {
        let required = schema.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
        let fields = properties.iter().map(|(field, inner)| Field {
            name: field.clone(),
            kind: kind(inner),
            required: required.iter().any(|name| name == field),
            about: one_line(inner.get("description").and_then(Value::as_str).unwrap_or_default()),
        });
        objects.push((name.to_owned(), fields.collect()));
    }
    for choice in ["oneOf", "anyOf"].iter().filter_map(|key| schema.get(key)).filter_map(Value::as_array).flatten() {
        let title = choice.get("title").and_then(Value::as_str).unwrap_or_default();
        let name = if title.is_empty() { name.to_owned() } else { format!("{name} {title}") };
        if choice.get("properties").is_some() {
            add(objects, name.trim(), choice);
        }
    }
}

/// What a field holds, in a few words.
fn kind(schema: &Value) -> String {
    let named = |reference: &str| reference.rsplit('/').next().unwrap_or_default().to_owned();
    if let Some(reference) = schema.get("$ref").and_then(Value::as_str) {
        return named(reference);
    }
    if let Some(value) = schema.get("const") {
        return value.to_string();
    }
    if let Some(values) = schema.get("enum").and_then(Value::as_array) {
        return values.iter().map(Value::to_string).collect::<Vec<_>>().join(" or ");
    }
    for choice in ["anyOf", "oneOf", "allOf"] {
        if let Some(choices) = schema.get(choice).and_then(Value::as_array) {
            let kinds: Vec<String> = choices.iter().map(kind).filter(|kind| kind != "null").collect();
            return kinds.join(" or ");
        }
    }
    let of = |key: &str| schema.get(key).map_or_else(|| "anything".to_owned(), kind);
    match schema.get("type") {
        Some(Value::String(one)) if one == "array" && schema.get("prefixItems").is_some() => {
            let items = schema["prefixItems"].as_array().map_or(0, Vec::len);
            format!("list of {items}: {}", schema["prefixItems"].get(0).map_or_else(String::new, kind))
        }
        Some(Value::String(one)) if one == "array" => format!("list of {}", of("items")),
        Some(Value::String(one)) if one == "object" && schema.get("properties").is_none() => {
            format!("object of {}", of("additionalProperties"))
        }
        Some(Value::String(one)) => one.clone(),
        Some(Value::Array(several)) => {
            let kinds = several.iter().filter_map(Value::as_str).filter(|kind| *kind != "null");
            let lists =
                |kind: &str| if kind == "array" { format!("list of {}", of("items")) } else { kind.to_owned() };
            kinds.map(lists).collect::<Vec<_>>().join(" or ")
        }
        _ => "anything".to_owned(),
    }
}

/// A description as one line of a table.
fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").replace('|', "\\|")
}
