//! Markup, entities and model markers that are no words.

use std::borrow::Cow;

pub(super) fn strip_markers(text: &str) -> Cow<'_, str> {
    remove_spans(text, "<|", |rest| find_near(&rest[2..], "|>").map(|end| (end + 4, true)))
}

/// A tag opens with a letter, a slash or a digit after its bracket, so "a < b" is left alone.
pub(super) fn strip_markup(text: &str) -> Cow<'_, str> {
    let without_ruby = remove_spans(text, "<r", |rest| ruby_span(rest).map(|length| (length, false)));
    let without_tags = in_turn(without_ruby, |text| remove_spans(text, "<", tag_span));
    let without_overrides = in_turn(without_tags, |text| {
        remove_spans(text, "{\\", |rest| find_near(rest, "}").map(|end| (end + 1, false)))
    });
    if without_overrides.contains('&') { Cow::Owned(resolve_entities(&without_overrides)) } else { without_overrides }
}

fn in_turn<'t>(text: Cow<'t, str>, step: impl Fn(&str) -> Cow<'_, str>) -> Cow<'t, str> {
    match step(&text) {
        Cow::Owned(changed) => Cow::Owned(changed),
        Cow::Borrowed(_) => text,
    }
}

/// The length of a tag, and whether it parts words; none where the bracket opens none.
fn tag_span(rest: &str) -> Option<(usize, bool)> {
    let opens = rest[1..].starts_with(|c: char| c.is_ascii_alphanumeric() || c == '/');
    let end = find_near(rest, ">")?;
    (opens && !rest[1..end].contains('<')).then(|| (end + 1, parts_words(&rest[1..end])))
}

/// The length of an annotation above a text and of the brackets for readers without it, `<rt>` and `<rp>` of WebVTT and HTML:
/// they repeat how the text is read. Ends with its end tag, or before the next tag of the ruby text.
fn ruby_span(rest: &str) -> Option<usize> {
    let name = ["rt", "rp"].into_iter().find(|name| rest[1..].starts_with(name))?;
    let behind = &rest[1 + name.len()..];
    if !behind.starts_with(['>', '.', ' ']) {
        return None;
    }
    let inside = find_near(rest, ">")? + 1;
    let closing = format!("</{name}>");
    let end = ["</ruby", "<rt", "<rp", "<ruby", closing.as_str()]
        .into_iter()
        .filter_map(|end| find_near(&rest[inside..], end))
        .min()?;
    let closed = rest[inside + end..].starts_with(&closing);
    Some(inside + end + if closed { closing.len() } else { 0 })
}

/// Whether a tag stands between words: a line break, a paragraph, a change of voice. Times, colours and the like may stand
/// inside a word, as WebVTT (W3C) has it.
fn parts_words(tag: &str) -> bool {
    const INSIDE: [&str; 14] =
        ["b", "i", "u", "s", "c", "em", "strong", "font", "span", "ruby", "rt", "lang", "mark", "emphasis"];
    let name = tag.trim_start_matches('/').split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default();
    let is_time = name.starts_with(|c: char| c.is_ascii_digit());
    !is_time && !INSIDE.contains(&name.to_ascii_lowercase().as_str())
}

/// The character references WebVTT defines, those that other caption writers add, and numeric ones.
fn resolve_entities(text: &str) -> String {
    const ENTITIES: [(&str, &str); 8] = [
        ("&apos;", "'"),
        ("&lt;", "<"),
        ("&gt;", ">"),
        ("&nbsp;", " "),
        ("&lrm;", ""),
        ("&rlm;", ""),
        ("&quot;", "\""),
        ("&amp;", "&"),
    ];
    let numeric = resolve_numeric(text);
    ENTITIES.iter().fold(numeric, |text, (name, sign)| text.replace(name, sign))
}

/// `&#39;` and `&#x27;`.
fn resolve_numeric(text: &str) -> String {
    const LONGEST: usize = 10;
    let mut resolved = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("&#") {
        resolved.push_str(&rest[..at]);
        let reference = &rest[at + 2..];
        let sign = reference.bytes().take(LONGEST + 1).position(|byte| byte == b';').and_then(|end| {
            let digits = &reference[..end];
            let number = match digits.strip_prefix(['x', 'X']) {
                Some(hex) => u32::from_str_radix(hex, 16),
                None => digits.parse(),
            };
            Some((char::from_u32(number.ok()?).filter(|c| !c.is_control())?, end))
        });
        match sign {
            Some((sign, end)) => {
                resolved.push(sign);
                rest = &reference[end + 1..];
            }
            None => {
                resolved.push_str("&#");
                rest = reference;
            }
        }
    }
    resolved + rest
}

/// Removes each span that starts with `opening`; `length` gives the span's bytes, and whether a space takes its place, or none
/// to leave it. Before a sign that closes no space is left.
pub(super) fn remove_spans<'t>(
    text: &'t str,
    opening: &str,
    length: impl Fn(&str) -> Option<(usize, bool)>,
) -> Cow<'t, str> {
    if !text.contains(opening) {
        return Cow::Borrowed(text);
    }
    let mut kept = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(opening) {
        kept.push_str(&rest[..at]);
        rest = &rest[at..];
        match length(rest) {
            Some((bytes, parts)) => {
                rest = &rest[bytes..];
                if parts && !rest.starts_with([',', '.', ';', ':', '!', '?', ')', '…']) {
                    kept.push(' ');
                }
            }
            None => {
                kept.push_str(opening);
                rest = &rest[opening.len()..];
            }
        }
    }
    kept.push_str(rest);
    Cow::Owned(kept)
}

/// Finds `closing` within the longest tag anyone writes, so that many unclosed openings stay cheap.
pub(super) fn find_near(text: &str, closing: &str) -> Option<usize> {
    const LONGEST_TAG: usize = 512;
    let mut end = text.len().min(LONGEST_TAG);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    text[..end].find(closing)
}
