//! Strict JSON: every complaint names the field, and a slip of the pen names what was meant.

use serde::de::DeserializeOwned;

use serde_json::Value;

use crate::{Place, Problem, nearest};

/// Reads one JSON value.
///
/// # Errors
/// A [`Problem`] at `place`, with the field and, for an unknown field, the nearest known one.
pub fn parse_strict<T: DeserializeOwned>(text: &str, place: Place) -> Result<T, Problem> {
    let mut reader = serde_json::Deserializer::from_str(text);
    let value = serde_path_to_error::deserialize(&mut reader).map_err(|error| {
        let field = error.path().to_string();
        let inner = error.into_inner();
        let what = without_position(&inner.to_string());
        if inner.is_syntax() || inner.is_eof() {
            return Problem::new(format!("not JSON at column {}: {what}", inner.column()), place.clone())
                .expected("one whole JSON object on one line");
        }
        let problem = serde_problem(&what, &field, place.clone());
        match serde_json::from_str(text) {
            Ok(value) => with_near_key(problem, &what, at_path(&value, &field)),
            Err(_) => problem,
        }
    })?;
    reader.end().map_err(|error| {
        Problem::new(format!("unexpected text after the JSON value at column {}", error.column()), place)
            .remedy("put each object on its own line")
    })?;
    Ok(value)
}

/// Keys that earlier versions read, and what is written now. None is ever taken away: a file that somebody kept is read years later.
const RENAMED: [(&str, &str); 2] =
    [("at_once", "\"concurrency\""), ("time_limit_s", "\"total_s\" in the engine's \"limits\"")];

/// Turns what a deserialiser says about a field into a [`Problem`] with a remedy.
#[must_use]
pub fn serde_problem(what: &str, field: &str, place: Place) -> Problem {
    let place = if field.is_empty() || field == "." { place } else { place.field(field) };
    let quoted: Vec<&str> = what.split('`').skip(1).step_by(2).collect();
    let problem = Problem::new(what.replace('`', "\""), place);
    if let Some((typed, known)) = quoted.split_first().filter(|_| what.starts_with("unknown ")) {
        let problem = Problem { what: format!("{} \"{typed}\"", leading_words(what)), ..problem };
        let problem = problem.expected(format!("one of {}", known.join(", ")));
        if let Some((_, now)) = RENAMED.iter().find(|(before, _)| before == typed) {
            return problem.remedy(format!("it was renamed: write {now}"));
        }
        return match nearest(typed, known.iter().copied()) {
            Some(name) => problem.remedy(format!("write \"{name}\" if that is meant")),
            None => problem.remedy("remove it"),
        };
    }
    if let Some(missing) = quoted.first().filter(|_| what.starts_with("missing field")) {
        return problem.remedy(format!("add \"{missing}\""));
    }
    match what.split_once(", expected ") {
        Some((found, expected)) => {
            Problem { what: found_in_words(found), ..problem }.expected(expected_in_words(expected))
        }
        None => problem,
    }
}

/// What was found, without the words of a deserialiser: `invalid type: integer "5"` is "it is the number 5".
fn found_in_words(found: &str) -> String {
    let bare =
        found.split_once(": ").filter(|(kind, _)| kind.starts_with("invalid ")).map_or(found, |(_, bare)| bare);
    let quoted = || bare.split_once(' ').map_or("", |(_, rest)| rest.trim_start_matches("point ")).replace('`', "");
    match bare.split(' ').next().unwrap_or_default() {
        "integer" | "floating" => format!("it is the number {}", quoted()),
        "string" => format!("it is the text {}", bare.trim_start_matches("string ")),
        "boolean" => format!("it is {}", quoted()),
        "sequence" => "it is a list".to_owned(),
        "map" => "it is a table of keys and values".to_owned(),
        "null" => "it is null".to_owned(),
        _ => found.replace('`', "\""),
    }
}

/// What was expected, without the names of types.
fn expected_in_words(expected: &str) -> String {
    match expected {
        "u8" | "u16" | "u32" | "u64" | "usize" => "a whole number, 0 or more".to_owned(),
        "i8" | "i16" | "i32" | "i64" | "isize" => "a whole number".to_owned(),
        "f32" | "f64" => "a number".to_owned(),
        "a sequence" => "a list".to_owned(),
        "a boolean" => "true or false".to_owned(),
        "a map" => "a table of keys and values".to_owned(),
        other if other.starts_with("struct ") => "a table of keys and values".to_owned(),
        other => other.replace('`', "\""),
    }
}

/// The value at a path such as `words[0].start`; the whole at an empty one.
fn at_path<'v>(value: &'v Value, path: &str) -> Option<&'v Value> {
    let steps = path.split(['.', '[']).filter(|step| !step.is_empty());
    steps.into_iter().try_fold(value, |value, step| match step.strip_suffix(']') {
        Some(place) => value.get(place.parse::<usize>().ok()?),
        None => value.get(step),
    })
}

/// A field that is missing may be there under a slip of its name.
fn with_near_key(problem: Problem, what: &str, object: Option<&Value>) -> Problem {
    let missing = what.strip_prefix("missing field `").and_then(|rest| rest.split('`').next());
    let keys = object.and_then(Value::as_object).into_iter().flat_map(|object| object.keys()).map(String::as_str);
    match missing.and_then(|missing| Some((missing, nearest(missing, keys)?))) {
        Some((missing, near)) => problem.remedy(format!("write \"{missing}\" for \"{near}\" if that is meant")),
        None => problem,
    }
}

fn leading_words(what: &str) -> &str {
    what.split('`').next().unwrap_or(what).trim_end()
}

/// serde_json ends its messages with a position within the line; ours stands in the place.
fn without_position(message: &str) -> String {
    message.split(" at line ").next().unwrap_or(message).to_owned()
}

/// Reads a value that has been parsed before, such as a part of a bench file.
///
/// `prefix` stands before the field in complaints; `also_known` are names that are right in the same object but read
/// elsewhere, so that a slip can be told from them too.
///
/// # Errors
/// A [`Problem`] at `place`, with the field and, for an unknown field, the nearest known one.
pub fn value_strict<T: DeserializeOwned>(
    value: Value,
    place: Place,
    prefix: &str,
    also_known: &[&str],
) -> Result<T, Problem> {
    // Looked at again when something is wrong with it.
    let whole = value.clone();
    serde_path_to_error::deserialize(value).map_err(|error| {
        let path = error.path().to_string();
        let unknown = error.inner().to_string().starts_with("unknown field");
        let mut what = without_position(&error.into_inner().to_string());
        if unknown && path.split('.').count() <= 1 {
            also_known.iter().for_each(|name| what.push_str(&format!(", `{name}`")));
        }
        let field = if path == "." { prefix.to_owned() } else { format!("{prefix}.{path}") };
        let problem = serde_problem(&what, field.trim_start_matches('.'), place);
        with_near_key(problem, &what, at_path(&whole, &path))
    })
}

#[cfg(test)]
mod tests {
    use serde::Deserialize;

    use super::*;

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    #[expect(dead_code, reason = "only complaints are looked at")]
    struct Row {
        task: String,
        #[serde(default)]
        repeats: u32,
        #[serde(default)]
        parts: Vec<Part>,
    }

    #[derive(Debug, Deserialize)]
    #[expect(dead_code, reason = "only complaints are looked at")]
    struct Part {
        start: f64,
        #[serde(default)]
        last: bool,
    }

    #[test]
    fn complaints_are_in_plain_words() {
        for (text, says) in [
            (r#"{"task":5}"#, "it is the number 5|a string|task"),
            (r#"{"task":"x","repeats":-1}"#, "it is the number -1|a whole number, 0 or more|repeats"),
            (r#"{"task":"x","repeats":1.5}"#, "it is the number 1.5|a whole number, 0 or more|repeats"),
            (r#"{"task":"x","parts":{}}"#, "it is a table of keys and values|a list|parts"),
            (r#"{"task":"x","parts":[{"start":"1"}]}"#, "it is the text \"1\"|a number|parts[0].start"),
            (r#"{"task":"x","parts":[{"start":1,"last":null}]}"#, "it is null|true or false|parts[0].last"),
            (r#"{"task":"x","parts":[7]}"#, "it is the number 7|a table of keys and values|parts[0]"),
        ] {
            let problem = parse_strict::<Row>(text, Place::default()).unwrap_err();
            let field = problem.place.field.clone().unwrap_or_default();
            let found = format!("{}|{}|{field}", problem.what, problem.expected.clone().unwrap_or_default());
            assert_eq!(found, says, "{text}");
        }
    }

    #[test]
    fn a_slip_of_a_needed_name_is_told() {
        let problem = parse_strict::<Row>(r#"{"taks":"x"}"#, Place::default()).unwrap_err();
        assert!(problem.to_string().contains("write \"task\""), "{problem}");
        let problem = parse_strict::<Row>(r#"{"task":"x","parts":[{"strat":1}]}"#, Place::default()).unwrap_err();
        assert!(problem.to_string().contains("write \"start\" for \"strat\""), "{problem}");
        let value = serde_json::json!({"taks": "x"});
        let problem = value_strict::<Row>(value, Place::default(), "engine.x", &[]).unwrap_err();
        assert!(problem.to_string().contains("write \"task\""), "{problem}");
        let far = parse_strict::<Row>(r#"{"repeats":1}"#, Place::default()).unwrap_err();
        assert!(far.to_string().contains("add \"task\""), "{far}");
    }
}
