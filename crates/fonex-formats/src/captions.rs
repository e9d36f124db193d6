//! Captions: SubRip and WebVTT (W3C), one cue at a time. Markup inside cues is left for the text profile.

use std::path::Path;

use fonex_core::text::{TextStep, plain_label};
use fonex_core::{Clip, Heard, HeardWord, TimedWord};

use crate::{Place, Problem};

/// One caption with its times in seconds from the start of the recording.
#[derive(Debug, Clone, PartialEq)]
pub struct Cue {
    /// When it appears.
    pub start: f64,
    /// When it goes.
    pub end: f64,
    /// Its text, lines and markup included.
    pub text: String,
}

impl Cue {
    /// Its text without markup.
    #[must_use]
    pub fn clean_text(&self) -> String {
        TextStep::Markup.apply(&self.text).split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// Its lines without markup.
    #[must_use]
    pub fn clean_lines(&self) -> Vec<String> {
        let clean = TextStep::Markup.apply(&self.text);
        let lines = clean.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "));
        lines.filter(|line| !line.is_empty()).collect()
    }

    /// Who speaks, as its voice tag `<v Name>` says.
    #[must_use]
    pub fn voice(&self) -> Option<&str> {
        let (_, tag) = self.text.split_once("<v")?;
        let (name, _) = tag.split_once('>')?;
        let name = name.split_once(char::is_whitespace)?.1.trim();
        (!name.is_empty()).then_some(name)
    }

    /// Its words with the times that WebVTT puts between them, `<00:00:01.500>`; none where it has no such times.
    #[must_use]
    pub fn timed_words(&self) -> Vec<TimedWord> {
        let mut pieces = vec![(self.start, String::new())];
        let mut rest = self.text.as_str();
        while let Some((before, after)) = rest.split_once('<') {
            pieces.last_mut().expect("there is a first piece").1.push_str(before);
            let Some((tag, behind)) = after.split_once('>') else { break };
            if let Some(at) = timestamp(tag) {
                pieces.push((at, String::new()));
            }
            // The annotation of a ruby text repeats how it is read.
            let is_annotation = matches!(tag.split(['.', ' ']).next(), Some("rt" | "rp"));
            let ends =
                || ["</rt>", "</rp>", "</ruby>", "<rt", "<rp"].into_iter().filter_map(|end| behind.find(end)).min();
            rest = if is_annotation { &behind[ends().unwrap_or(behind.len())..] } else { behind };
        }
        pieces.last_mut().expect("there is a first piece").1.push_str(rest);
        if pieces.len() == 1 {
            return Vec::new();
        }
        let ends: Vec<f64> = pieces[1..].iter().map(|(at, _)| *at).chain([self.end]).collect();
        let mut words: Vec<TimedWord> = Vec::new();
        for ((start, text), end) in pieces.into_iter().zip(ends) {
            let text = TextStep::Markup.apply(&text).split_whitespace().collect::<Vec<_>>().join(" ");
            // A sign at the beginning of a piece belongs to the word before the time.
            let signs =
                text.find(|c: char| !matches!(c, ',' | '.' | ';' | ':' | '!' | '?' | '…')).unwrap_or(text.len());
            if let Some(last) = words.last_mut() {
                last.text += &text[..signs];
            }
            let text = text[signs..].trim_start();
            if !text.is_empty() {
                words.push(TimedWord { text: text.to_owned(), start, end: end.max(start) });
            }
        }
        words
    }
}

/// One clip of a whole caption file: text without markup, captions as segments, word times where there are any.
#[must_use]
pub fn clip_from(cues: &[Cue]) -> Clip {
    let segments: Vec<TimedWord> = cues
        .iter()
        .map(|cue| TimedWord { text: cue.clean_text(), start: cue.start, end: cue.end })
        .filter(|segment| !segment.text.is_empty())
        .collect();
    Clip {
        text: plain_label(&segments.iter().map(|segment| segment.text.as_str()).collect::<Vec<_>>().join(" ")),
        words: cues.iter().flat_map(Cue::timed_words).collect(),
        segments,
        ..Clip::default()
    }
}

/// A result of a whole caption file: text without markup, captions as segments, word times where there are any.
#[must_use]
pub fn heard_from(cues: &[Cue]) -> Heard {
    let Clip { words, segments, .. } = clip_from(cues);
    let word = |word: TimedWord| HeardWord {
        text: word.text,
        start: Some(word.start),
        end: Some(word.end),
        confidence: None,
    };
    Heard {
        text: segments.iter().map(|segment| segment.text.as_str()).collect::<Vec<_>>().join(" "),
        words: words.into_iter().map(word).collect(),
        segments,
        ..Heard::default()
    }
}

/// Reads either form: a WebVTT file says so in its first line.
///
/// # Errors
/// When a time line is broken or a cue ends before it starts.
pub fn parse(text: &str, path: &Path) -> Result<Vec<Cue>, Problem> {
    let mut cues = Vec::new();
    let mut lines = (1..).zip(text.trim_start_matches('\u{feff}').lines().map(str::trim_end));
    while let Some((number, line)) = lines.next() {
        // Headers, notes, style blocks, cue numbers and cue names stand before a time line, or without one.
        if !line.contains("-->") {
            continue;
        }
        let place = Place::line(path, number);
        let (start, end) = time_line(line).ok_or_else(|| {
            Problem::new(format!("the caption time \"{line}\" cannot be read"), place.clone())
                .expected("00:01:02.500 --> 00:01:04.000")
        })?;
        if end < start {
            return Err(Problem::new(format!("the caption ends at {end} s, before its start at {start} s"), place)
                .expected("an end at or after the start"));
        }
        let text: Vec<&str> = lines.by_ref().map(|(_, line)| line).take_while(|line| !line.is_empty()).collect();
        cues.push(Cue { start, end, text: text.join("\n") });
    }
    Ok(cues)
}

/// Whether a text is a caption file: it says so in its first line, or begins with the number of a cue, or its times.
#[must_use]
pub fn are_captions(text: &str) -> bool {
    // Every text that was heard is asked, and nearly all begin with another letter.
    if text.bytes().next().is_some_and(|first| first.is_ascii_alphabetic() && first != b'W') {
        return false;
    }
    let text = text.trim_start_matches('\u{feff}').trim_start();
    if text.strip_prefix("WEBVTT").is_some_and(|rest| rest.is_empty() || rest.starts_with(char::is_whitespace)) {
        return true;
    }
    // The number of the cue stands before its times.
    text.contains('>') && text.lines().take(2).any(|line| time_line(line.trim()).is_some())
}

fn time_line(line: &str) -> Option<(f64, f64)> {
    let (start, rest) = line.split_once("-->")?;
    Some((timestamp(start.trim())?, timestamp(rest.split_whitespace().next()?)?))
}

/// `HH:MM:SS,mmm` or `MM:SS.mmm` in seconds.
fn timestamp(text: &str) -> Option<f64> {
    let (clock, fraction) = text.split_once([',', '.'])?;
    let mut seconds = 0_u64;
    let parts: Vec<&str> = clock.split(':').collect();
    if !(2..=3).contains(&parts.len()) || fraction.len() != 3 {
        return None;
    }
    for part in parts {
        seconds = seconds.checked_mul(60)?.checked_add(part.parse().ok()?)?;
    }
    let milliseconds: u64 = fraction.parse().ok()?;
    let time = (seconds.checked_mul(1000)?.checked_add(milliseconds)?) as f64 / 1000.0;
    (time <= crate::LATEST_S).then_some(time)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_are_read() {
        let srt = "1\r\n00:00:01,500 --> 00:00:03,000\r\nDoors close\r\nnow\r\n\r\n2\r\n01:00:00,000 --> 01:00:01,000\r\n<i>End</i>\r\n";
        let cues = parse(srt, Path::new("a.srt")).unwrap();
        assert_eq!(cues[0], Cue { start: 1.5, end: 3.0, text: "Doors close\nnow".into() });
        assert_eq!((cues[1].start, cues[1].text.as_str()), (3600.0, "<i>End</i>"));
        let vtt = "WEBVTT\n\nNOTE hand made\n\nintro\n00:01.000 --> 00:02.000 line:0 align:start\n<v Ilka>Hold.\n";
        assert_eq!(
            parse(vtt, Path::new("a.vtt")).unwrap(),
            [Cue { start: 1.0, end: 2.0, text: "<v Ilka>Hold.".into() }]
        );
    }

    #[test]
    fn markup_voices_and_word_times_are_told_apart() {
        let cue = |text: &str| Cue { start: 1.0, end: 3.0, text: text.into() };
        let spoken = cue("<v.loud Ilka Berg>Hold <00:01.500><b>at</b> <00:02.000>pylon &amp; six</v>");
        assert_eq!((spoken.clean_text().as_str(), spoken.voice()), ("Hold at pylon & six", Some("Ilka Berg")));
        let words: Vec<(String, f64, f64)> =
            spoken.timed_words().into_iter().map(|w| (w.text, w.start, w.end)).collect();
        assert_eq!(words[0], ("Hold".into(), 1.0, 1.5));
        assert_eq!(words[1], ("at".into(), 1.5, 2.0));
        let said = cue("Good evening<00:01.300>, <c.loud>ladies</c> &amp; gentle<00:02.000>men.");
        assert_eq!(said.clean_text(), "Good evening, ladies & gentlemen.");
        let words: Vec<(String, f64)> = said.timed_words().into_iter().map(|w| (w.text, w.start)).collect();
        let expected = [("Good evening,", 1.0), ("ladies & gentle", 1.3), ("men.", 2.0)];
        assert_eq!(words, expected.map(|(text, start)| (text.to_owned(), start)));
        assert_eq!(cue("It&#39;s<br>six &#x2014; &#0; &#xzz;").clean_text(), "It's six — &#0; &#xzz;");
        assert_eq!(cue("{\\an8}<font color=\"red\">Plain</font> <i>text</i>").clean_text(), "Plain text");
        let ruby =
            cue("<ruby>漢<rt>kan</rt>字<rt>ji</rt></ruby> <00:02.000><ruby.x>下<rt.loud>ka</ruby> <rp>(</rp>six");
        assert_eq!(ruby.clean_text(), "漢字 下 six");
        let words: Vec<String> = ruby.timed_words().into_iter().map(|w| w.text).collect();
        assert_eq!(words, ["漢字", "下 six"]);
        assert_eq!(cue("<rtx>a</rtx> <rt").clean_text(), "a <rt");
        assert_eq!((cue("a < b").timed_words(), cue("a < b").voice()), (vec![], None));
    }

    #[test]
    fn caption_files_are_told_from_texts() {
        for captions in [
            "WEBVTT\n\n",
            "\u{feff}WEBVTT - made by x\n",
            "\n1\n00:00:01,000 --> 00:00:02,000\nHold.\n",
            "00:01.000 --> 00:02.000\nHold",
        ] {
            assert!(are_captions(captions), "{captions}");
        }
        for text in ["", "hold at pylon six", "a --> b", "WEBVTTX", "1\n2\n00:00:01,000 --> 00:00:02,000"] {
            assert!(!are_captions(text), "{text}");
        }
    }

    #[test]
    fn broken_times_name_their_line() {
        let error = parse("1\n00:01 --> x\n", Path::new("a.srt")).unwrap_err();
        assert_eq!(error.place, Place::line(Path::new("a.srt"), 2));
        assert!(parse("00:02.000 --> 00:01.000\nx\n", Path::new("a.vtt")).is_err());
        assert_eq!(timestamp("99999999999999999999:00.000"), None);
    }
}
