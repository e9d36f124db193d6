//! Strict JSON: every complaint names the field, and a slip of the pen names what was meant.

use serde::de::DeserializeOwned;

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
        serde_problem(&what, &field, place.clone())
    })?;
    reader.end().map_err(|error| {
        Problem::new(format!("something follows the JSON value at column {}", error.column()), place)
            .remedy("put each object on a line of its own")
    })?;
    Ok(value)
}

/// Turns what a deserialiser says about a field into a [`Problem`] with a remedy.
#[must_use]
pub fn serde_problem(what: &str, field: &str, place: Place) -> Problem {
    let place = if field.is_empty() || field == "." { place } else { place.field(field) };
    let quoted: Vec<&str> = what.split('`').skip(1).step_by(2).collect();
    let problem = Problem::new(what.replace('`', "\""), place);
    if let Some((typed, known)) = quoted.split_first().filter(|_| what.starts_with("unknown ")) {
        let problem = Problem { what: format!("{} \"{typed}\"", leading_words(what)), ..problem };
        let problem = problem.expected(format!("one of {}", known.join(", ")));
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
            Problem { what: found.replace('`', "\""), ..problem }.expected(expected.replace('`', "\""))
        }
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
    value: serde_json::Value,
    place: Place,
    prefix: &str,
    also_known: &[&str],
) -> Result<T, Problem> {
    serde_path_to_error::deserialize(value).map_err(|error| {
        let path = error.path().to_string();
        let unknown = error.inner().to_string().starts_with("unknown field");
        let mut what = without_position(&error.into_inner().to_string());
        if unknown && path.split('.').count() <= 1 {
            also_known.iter().for_each(|name| what.push_str(&format!(", `{name}`")));
        }
        let field = if path == "." { prefix.to_owned() } else { format!("{prefix}.{path}") };
        serde_problem(&what, field.trim_start_matches('.'), place)
    })
}
