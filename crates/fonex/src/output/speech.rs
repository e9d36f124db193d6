//! How something is spoken, in a few lines.

use fonex_core::speech::{Fault, SpeechMeasures};
use fonex_report::folded_under;

use super::{plural, signed, width};

/// What a listener would remark, the figures behind it, and what is wrong with the audio; two lines, or three.
pub fn speech_lines(speech: &SpeechMeasures) -> String {
    let mut parts = Vec::new();
    if let Some(rate) = speech.syllables_per_s() {
        parts.push(format!("{rate:.1} syllables a second"));
    }
    if let Some(pitch) = speech.pitch {
        parts.push(format!("pitch {:.0} Hz over {:.1} semitones", pitch.median_hz, pitch.range_st));
    }
    let pauses = speech.pauses;
    if pauses.count > 0 {
        let longest = if pauses.count > 1 { "the longest " } else { "" };
        parts.push(format!("{} ({longest}{:.2} s)", plural(u64::from(pauses.count), "pause"), pauses.longest_s));
    }
    if let Some(spectrum) = speech.spectrum {
        let tilt = signed(spectrum.tilt_db_per_octave, 1);
        parts.push(format!("band up to {:.1} kHz, {tilt} dB an octave", spectrum.band_limit_hz / 1e3));
    }
    let words = speech.in_words();
    let summary = if words.is_empty() { String::new() } else { format!("{}: ", words.join(", ")) };
    // What continues in the next line is moved in further.
    let line = |text: String| format!("  {}", folded_under(&text, width().saturating_sub(2), 4));
    let mut text = if parts.is_empty() { String::new() } else { line(summary + &parts.join(", ")) };
    let faults = faults(speech);
    if !faults.is_empty() {
        text += &line(format!("audio faults: {}", faults.join(", ")));
    }
    text
}

/// The faults with where they are and how strong.
fn faults(speech: &SpeechMeasures) -> Vec<String> {
    let faults = &speech.faults;
    let counted = |fault: Option<Fault>, name: &str| {
        let fault = fault?;
        let first = if fault.count > 1 { "the first " } else { "" };
        Some(format!("{} ({first}at {:.2} s)", plural(u64::from(fault.count), name), fault.at_s))
    };
    let plain = |there: bool, words: &str| there.then(|| words.to_owned());
    [
        counted(faults.clicks, "click"),
        counted(faults.dropouts, "dropout"),
        faults.hum_dbfs.map(|level| format!("hum of {} dBFS", signed(level, 0))),
        plain(faults.cut_beginning, "it starts in the middle of a sound"),
        plain(faults.cut_end, "it ends in the middle of a sound"),
        faults.repeated.map(|fault| format!("a stretch is repeated at {:.2} s", fault.at_s)),
        counted(faults.long_pauses, "long pause"),
        plain(faults.not_speech, "hardly any of it is voiced speech"),
    ]
    .into_iter()
    .flatten()
    .collect()
}
