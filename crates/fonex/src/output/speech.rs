//! How something is spoken, in a few lines.

use fonex_core::audio::Audio;
use fonex_core::speech::{Fault, SpeechMeasures, pitch_track};
use fonex_core::stats::{median, quantile};
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

/// Signs from low to high.
const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// What is quieter than this below the loudest is nothing.
const FLOOR_DB: f64 = 40.0;

/// A small picture of a sound: its level and its pitch over time, a sign for each stretch, and their range beside them. Nothing for silence.
pub fn sound_picture(audio: &Audio) -> String {
    let columns = width().saturating_sub(28).clamp(16, 100);
    let length = audio.samples.len().div_ceil(columns).max(1);
    let levels: Vec<f64> = audio
        .samples
        .chunks(length)
        .map(|part| {
            10.0 * (part.iter().map(|s| f64::from(s * s)).sum::<f64>() / part.len() as f64).max(1e-12).log10()
        })
        .collect();
    let loudest = levels.iter().copied().fold(f64::MIN, f64::max);
    if loudest < -90.0 {
        return String::new();
    }
    let track = pitch_track(audio);
    let of = |column: usize| {
        let at = |sample: usize| (sample as f64 / f64::from(audio.rate_hz) / track.hop_s) as usize;
        let (from, to) = (at(column * length), at((column + 1) * length).max(at(column * length) + 1));
        let voiced: Vec<f64> =
            track.hz.get(from..to.min(track.hz.len())).unwrap_or_default().iter().flatten().copied().collect();
        median(&voiced)
    };
    let pitches: Vec<Option<f64>> = (0..levels.len()).map(of).collect();
    let sign = |share: f64| HEIGHTS[((share * 7.999) as usize).min(7)];
    let level: String = levels
        .iter()
        .map(|level| if *level < loudest - FLOOR_DB { ' ' } else { sign(1.0 - (loudest - level) / FLOOR_DB) })
        .collect();
    let mut text = format!("  level {level} {:.0} to {:.0} dBFS\n", loudest - FLOOR_DB, loudest);
    let heard: Vec<f64> = pitches.iter().flatten().copied().collect();
    if let (Some(low), Some(high)) = (quantile(&heard, 0.02), quantile(&heard, 0.98)) {
        let place = |hz: f64| ((hz / low).ln() / (high / low).ln().max(1e-9)).clamp(0.0, 1.0);
        let pitch: String = pitches.iter().map(|hz| hz.map_or(' ', |hz| sign(place(hz)))).collect();
        text += &format!("  pitch {pitch} {low:.0} to {high:.0} Hz\n");
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
        faults.other_rate_hz.map(|hz| format!("{hz} samples a second, which is not what was asked for")),
        plain(faults.other_container, "another container than was asked for"),
        plain(faults.silent, "nothing is in it"),
        plain(faults.not_speech, "hardly any of it is voiced speech"),
    ]
    .into_iter()
    .flatten()
    .collect()
}
