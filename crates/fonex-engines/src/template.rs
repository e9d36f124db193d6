//! Values filled into an engine's arguments: `{audio}`, `{voice}`, `{text}`, `{settings.speed}`.

use std::borrow::Cow;

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
fn parts(template: &str) -> impl Iterator<Item = Part<'_>> {
    let mut rest = template;
    std::iter::from_fn(move || {
        let before = memchr::memchr2(b'{', b'}', rest.as_bytes()).unwrap_or(rest.len());
        let (part, length) = match rest {
            "" => return None,
            _ if before > 0 => (Part::Text(&rest[..before]), before),
            from if from.starts_with("{{") || from.starts_with("}}") => (Part::Text(&from[..1]), 2),
            from => match value_name(from) {
                Some(name) => (Part::Value(name), name.len() + 2),
                None => (Part::Text(&from[..1]), 1),
            },
        };
        rest = &rest[length..];
        Some(part)
    })
}

/// The names of the values a template uses.
pub(crate) fn values_in(template: &str) -> impl Iterator<Item = &str> {
    parts(template).filter_map(|part| match part {
        Part::Value(name) => Some(name),
        Part::Text(_) => None,
    })
}

/// Fills a template; names without a value become empty, which [`values_in`] lets the bench file reader rule out.
pub(crate) fn fill<'v>(template: &str, value: impl Fn(&str) -> Option<&'v str>) -> String {
    fill_fitting(template, value, |_, value| Cow::Borrowed(value))
}

/// Fills a template one value after the other; each is changed to fit what was filled before it.
pub(crate) fn fill_fitting<'v>(
    template: &str,
    value: impl Fn(&str) -> Option<&'v str>,
    fit: impl Fn(&str, &'v str) -> Cow<'v, str>,
) -> String {
    let mut filled = String::with_capacity(template.len());
    for part in parts(template) {
        match part {
            Part::Text(text) => filled += text,
            Part::Value(name) => filled += &fit(&filled, value(name).unwrap_or_default()),
        }
    }
    filled
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_filled_and_doubled_brackets_stay() {
        let value = |name: &str| ["<voice>", "<text>", "<x>"].into_iter().find(|value| value[1..].starts_with(name));
        assert_eq!(fill("-v{voice} {{\"a\":1}} {text", value), "-v<voice> {\"a\":1} {text");
        assert_eq!(values_in("{a}{{b}}{c.d}").collect::<Vec<_>>(), ["a", "c.d"]);
        assert_eq!(fill("{\"r\":{\"t\":1}} ${x} { y }", value), "{\"r\":{\"t\":1} $<x> { y }");
    }
}
