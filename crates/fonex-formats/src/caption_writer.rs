//! Captions written as SubRip, as WebVTT with word times, and as plain lines with times.

use fonex_core::captions::Caption;

/// A form of captions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CaptionForm {
    /// SubRip.
    Srt,
    /// WebVTT (W3C), with the time of each word inside the cue.
    Vtt,
    /// One line a caption, with its times in seconds.
    Text,
}

impl CaptionForm {
    /// The usual ending of its files.
    #[must_use]
    pub const fn ending(self) -> &'static str {
        match self {
            Self::Srt => "srt",
            Self::Vtt => "vtt",
            Self::Text => "txt",
        }
    }

    /// The form of a file by its ending.
    #[must_use]
    pub fn of_ending(ending: &str) -> Option<Self> {
        [Self::Srt, Self::Vtt, Self::Text].into_iter().find(|form| ending.eq_ignore_ascii_case(form.ending()))
    }
}

/// Captions as a file.
#[must_use]
pub fn write_captions(captions: &[Caption], form: CaptionForm) -> String {
    match form {
        CaptionForm::Srt => {
            let cue = |(number, caption): (usize, &Caption)| {
                let (start, end) = (clock(caption.start, ','), clock(caption.end, ','));
                // What looks like markup to a player was said and is no markup.
                let text = caption.lines.join("\n").replace('<', "‹").replace("-->", "→");
                format!("{}\n{start} --> {end}\n{text}\n\n", number + 1)
            };
            captions.iter().enumerate().map(cue).collect()
        }
        CaptionForm::Vtt => {
            let cue = |caption: &Caption| {
                let (start, end) = (clock(caption.start, '.'), clock(caption.end, '.'));
                format!("{start} --> {end}\n{}\n\n", with_word_times(caption))
            };
            std::iter::once("WEBVTT\n\n".to_owned()).chain(captions.iter().map(cue)).collect()
        }
        CaptionForm::Text => captions
            .iter()
            .map(|caption| format!("{:>9.3} {:>9.3}  {}\n", caption.start, caption.end, caption.lines.join(" ")))
            .collect(),
    }
}

/// The lines of a cue; each word but the first is preceded by its time, which must grow and lie inside the cue.
fn with_word_times(caption: &Caption) -> String {
    let escape = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    let mut words = caption.words.iter();
    let mut text = String::new();
    let mut last_ms = milliseconds(caption.start);
    for (line_number, line) in caption.lines.iter().enumerate() {
        if line_number > 0 {
            text.push('\n');
        }
        let mut rest = line.as_str();
        let mut first = true;
        while !rest.is_empty() {
            // A word as it was heard may itself hold spaces.
            let word = words.next();
            let length = word.map_or(rest.len(), |word| word.text.trim().len()).min(rest.len());
            let length = if rest.is_char_boundary(length) { length } else { rest.len() };
            let at_ms = word.map_or(0, |word| milliseconds(word.start));
            let is_first = line_number == 0 && first;
            if !first {
                text.push(' ');
            }
            if !is_first && at_ms > last_ms && at_ms < milliseconds(caption.end) {
                text += &format!("<{}>", clock(at_ms as f64 / 1e3, '.'));
                last_ms = at_ms;
            }
            text += &escape(&rest[..length]);
            rest = rest[length..].trim_start();
            first = false;
        }
    }
    text
}

fn milliseconds(seconds: f64) -> u64 {
    (seconds.max(0.0) * 1e3).round() as u64
}

fn clock(seconds: f64, point: char) -> String {
    let ms = milliseconds(seconds);
    format!("{:02}:{:02}:{:02}{point}{:03}", ms / 3_600_000, ms / 60_000 % 60, ms / 1_000 % 60, ms % 1_000)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::captions::parse;
    use fonex_core::TimedWord;
    use fonex_core::captions::{CaptionRule, cut_captions};
    use std::path::Path;

    #[test]
    fn what_is_written_is_read_back() {
        let words: Vec<TimedWord> = ["Hold", "at <6>", "& wait", "for", "the", "call.", "Doors", "close."]
            .iter()
            .enumerate()
            .map(|(i, text)| TimedWord {
                text: (*text).to_owned(),
                start: 3_599.5 + i as f64 * 0.4,
                end: 3_599.8 + i as f64 * 0.4,
            })
            .collect();
        let captions = cut_captions(&words, &CaptionRule { line_characters: 20, ..CaptionRule::default() });
        let vtt = write_captions(&captions, CaptionForm::Vtt);
        let cues = parse(&vtt, Path::new("a.vtt")).unwrap();
        assert_eq!(cues.len(), captions.len());
        let back: Vec<TimedWord> = cues.iter().flat_map(crate::captions::Cue::timed_words).collect();
        assert_eq!(back.len(), words.len(), "{vtt}");
        for (a, b) in back.iter().zip(&words) {
            assert!((a.start - b.start).abs() < 0.001, "{a:?} {b:?}");
        }
        assert_eq!(cues[0].clean_text(), captions[0].lines.join(" "));
        let srt = write_captions(&captions, CaptionForm::Srt);
        let cues = parse(&srt, Path::new("a.srt")).unwrap();
        assert_eq!((cues.len(), cues[0].start), (captions.len(), 3_599.5));
        assert!(srt.starts_with("1\n00:59:59,500 --> 01:00:0"), "{srt}");
    }
}
