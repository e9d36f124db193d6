//! Values filled into an engine's arguments: `{audio}`, `{voice}`, `{text}`, `{settings.speed}`.

/// A part of a template: text as it stands, or the name of a value.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Part<'t> {
    Text(&'t str),
    Value(&'t str),
}

/// The name in the brackets a text opens with. Brackets around anything but a name, as in JSON or a shell script, are
/// plain text.
fn value_name(text: &str) -> Option<&str> {
    let (name, _) = text.strip_prefix('{')?.split_once('}')?;
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-');
    (name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.chars().all(plain)).then_some(name)
}

/// Splits a template. A bracket that is doubled, `{{`, stands for itself.
fn parts(template: &str) -> Vec<Part<'_>> {
    let mut parts = Vec::new();
    let mut rest = template;
    while let Some(at) = rest.find(['{', '}']) {
        let (before, from) = rest.split_at(at);
        parts.push(Part::Text(before));
        if from.starts_with("{{") || from.starts_with("}}") {
            parts.push(Part::Text(&from[..1]));
            rest = &from[2..];
        } else if let Some(name) = value_name(from) {
            parts.push(Part::Value(name));
            rest = &from[name.len() + 2..];
        } else {
            parts.push(Part::Text(&from[..1]));
            rest = &from[1..];
        }
    }
    parts.push(Part::Text(rest));
    parts
}

/// The names of the values a template uses.
pub(crate) fn values_in(template: &str) -> impl Iterator<Item = &str> {
    parts(template).into_iter().filter_map(|part| match part {
        Part::Value(name) => Some(name),
        Part::Text(_) => None,
    })
}

/// Fills a template; names without a value become empty, which [`values_in`] lets the bench file reader rule out.
pub(crate) fn fill(template: &str, value: impl Fn(&str) -> Option<String>) -> String {
    parts(template)
        .into_iter()
        .map(|part| match part {
            Part::Text(text) => text.to_owned(),
            Part::Value(name) => value(name).unwrap_or_default(),
        })
        .collect()
}

/// Fills a template one value after the other; each is changed to fit what was filled before it.
pub(crate) fn fill_fitting(
    template: &str,
    value: impl Fn(&str) -> Option<String>,
    fit: impl Fn(&str, String) -> String,
) -> String {
    let mut filled = String::new();
    for part in parts(template) {
        let next = match part {
            Part::Text(text) => text.to_owned(),
            Part::Value(name) => fit(&filled, value(name).unwrap_or_default()),
        };
        filled += &next;
    }
    filled
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_filled_and_doubled_brackets_stay() {
        let value = |name: &str| Some(format!("<{name}>"));
        assert_eq!(fill("-v{voice} {{\"a\":1}} {text", value), "-v<voice> {\"a\":1} {text");
        assert_eq!(values_in("{a}{{b}}{c.d}").collect::<Vec<_>>(), ["a", "c.d"]);
        assert_eq!(fill("{\"r\":{\"t\":1}} ${x} { y }", value), "{\"r\":{\"t\":1} $<x> { y }");
    }
}
