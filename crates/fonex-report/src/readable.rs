//! Text that engines, corpora and files wrote, made fit to be shown: it can neither steer a terminal nor change the order of what is read.

use std::borrow::Cow;

/// Whether a character is shown as itself: no control character, no line break in disguise, nothing that turns the direction of what comes
/// after it (UAX 9: embeddings, overrides and isolates of a fixed direction).
fn is_readable(c: char) -> bool {
    !(c.is_control()
        || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}' | '\u{2067}' | '\u{2028}' | '\u{2029}' | '\u{feff}'))
}

/// Whether a line is plain ASCII, as most are: told many bytes at a time.
fn is_plain(line: &str) -> bool {
    line.bytes().fold(true, |plain, byte| plain & matches!(byte, b' '..=b'~'))
}

/// Whether a whole text can be shown, its line breaks aside.
fn all_readable(text: &str) -> bool {
    text.split('\n').all(|line| is_plain(line) || line.chars().all(is_readable))
}

/// Foreign text as one line: a space for every control character, a sign of its own for what else cannot be shown.
#[must_use]
pub fn one_line(text: &str) -> String {
    if is_plain(text) {
        return text.to_owned();
    }
    let shown = |c: char| match c {
        c if is_readable(c) => c,
        c if c.is_control() => ' ',
        _ => char::REPLACEMENT_CHARACTER,
    };
    text.chars().map(shown).collect()
}

/// A whole page for a terminal or a file: lines stay lines, and colours stay colours; nothing else of a terminal's language gets through.
#[must_use]
pub fn page(text: &str) -> Cow<'_, str> {
    const ESCAPE: char = '\u{1b}';
    if all_readable(text) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let colour = if c == ESCAPE { colour_length(rest) } else { None };
        let taken = colour.unwrap_or(c.len_utf8());
        match c {
            _ if colour.is_some() || c == '\n' || is_readable(c) => shown.push_str(&rest[..taken]),
            '\t' => shown.push(' '),
            _ => shown.push(char::REPLACEMENT_CHARACTER),
        }
        rest = &rest[taken..];
    }
    Cow::Owned(shown)
}

/// JSON whose strings hold what cannot be shown as escapes, which say the same to a program.
#[must_use]
pub fn escaped(json: &str) -> Cow<'_, str> {
    if all_readable(json) {
        return Cow::Borrowed(json);
    }
    let mut shown = String::with_capacity(json.len() + 16);
    for c in json.chars() {
        // Every one of them is in the first plane; only strings can hold them.
        if c == '\n' || is_readable(c) { shown.push(c) } else { shown += &format!("\\u{:04x}", u32::from(c)) }
    }
    Cow::Owned(shown)
}

/// The length of a sequence that only sets a colour (ECMA-48, SGR).
fn colour_length(text: &str) -> Option<usize> {
    let inner = text.strip_prefix("\u{1b}[")?;
    let digits = inner.bytes().take_while(|b| b.is_ascii_digit() || *b == b';').count();
    inner[digits..].starts_with('m').then_some(digits + 3)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_steers_a_terminal() {
        assert_eq!(page("a\u{1b}[2mb\u{1b}[0m\nc"), "a\u{1b}[2mb\u{1b}[0m\nc");
        assert_eq!(
            page("a\u{1b}]0;title\u{7}b\r\u{9b}2J\u{0}"),
            "a\u{fffd}]0;title\u{fffd}b\u{fffd}\u{fffd}2J\u{fffd}"
        );
        assert_eq!(page("\u{1b}[2J\u{1b}[1;31"), "\u{fffd}[2J\u{fffd}[1;31");
        assert_eq!(escaped("{\"a\": \"\u{9b}\u{202e}\"}\n"), "{\"a\": \"\\u009b\\u202e\"}\n");
        assert_eq!(one_line("a\nb\u{202e}c\u{200f}\u{2028}"), "a b\u{fffd}c\u{200f}\u{fffd}");
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_made_readable_once_and_for_all(text in "\\PC{0,8}[\\x00-\\x1f\u{7f}-\u{9f}\u{202a}-\u{202e}]{0,3}.{0,8}") {
            let once = page(&text).into_owned();
            proptest::prop_assert_eq!(page(&once).into_owned(), once);
            proptest::prop_assert_eq!(all_readable(&text), text.chars().all(|c| c == '\n' || is_readable(c)));
            proptest::prop_assert!(one_line(&text).chars().all(is_readable));
            proptest::prop_assert_eq!(one_line(&text).chars().count(), text.chars().count());
        }
    }
}
