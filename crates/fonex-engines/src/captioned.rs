//! What was heard, where an engine answers with plain text or with a caption file in its place.

use std::path::Path;

use fonex_core::Heard;
use fonex_formats::captions::{are_captions, heard_from, parse};

/// What an answer in plain text says: a caption file is read with its times.
///
/// # Errors
/// What is wrong with the captions, in words.
pub(crate) fn heard_of_text(text: &str) -> Result<Heard, String> {
    if are_captions(text) {
        return captions(text);
    }
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    Ok(Heard { text, ..Heard::default() })
}

/// The same answer; where its text is a caption file, with what the captions say. Words and times that came beside them stay.
///
/// # Errors
/// What is wrong with the captions, in words.
pub(crate) fn without_captions(heard: Heard) -> Result<Heard, String> {
    if !are_captions(&heard.text) {
        return Ok(heard);
    }
    let Heard { text, words, segments, .. } = captions(&heard.text)?;
    let words = if heard.words.is_empty() { words } else { heard.words };
    let segments = if heard.segments.is_empty() { segments } else { heard.segments };
    Ok(Heard { text, words, segments, ..heard })
}

fn captions(text: &str) -> Result<Heard, String> {
    let cues = parse(text, Path::new("")).map_err(|problem| {
        let line = problem.place.line.map_or_else(String::new, |line| format!(" (line {line} of the answer)"));
        format!("its answer is a caption file that cannot be read: {}{line}", problem.what)
    })?;
    Ok(heard_from(&cues))
}

#[cfg(test)]
mod tests {
    use super::*;

    const SRT: &str =
        "1\n00:00:01,000 --> 00:00:02,500\n<i>Hold</i> at\npylon six\n\n2\n00:00:03,000 --> 00:00:04,000\nOver.\n";

    #[test]
    fn captions_are_words_with_times_and_text_is_text() {
        let heard = heard_of_text(SRT).unwrap();
        assert_eq!(heard.text, "Hold at pylon six Over.");
        assert_eq!(heard.segments.iter().map(|s| (s.start, s.end)).collect::<Vec<_>>(), [(1.0, 2.5), (3.0, 4.0)]);
        assert_eq!(heard_of_text(" hold\n at  six ").unwrap().text, "hold at six");
        assert_eq!(without_captions(Heard { text: SRT.into(), ..Heard::default() }), Ok(heard));
        let broken = heard_of_text("1\n00:00:01,000 --> 00:00:02,500\nHold\n\n2\n00:03 --> x\n").unwrap_err();
        assert!(broken.contains("line 6"), "{broken}");
    }
}
