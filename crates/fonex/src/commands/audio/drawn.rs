//! The shape of a recording in a terminal, and its picture.

use fonex_core::audio::{MelMeter, extremes};
use fonex_core::speech::Heard;
use fonex_formats::Problem;
use fonex_report::charts::{SoundLabel, SoundPicture, WAVE_COLUMNS};

use super::{Item, Measured, level, name, play};
use crate::output;

/// The lowest and highest sample of each of so many even stretches.
fn outline(heard: &Heard, columns: usize) -> Vec<(f32, f32)> {
    heard.sound.as_ref().map_or_else(|| heard.outline.extremes(columns), |audio| extremes(&audio.samples, columns))
}

/// The level over time in eighths of a line, a scale, and the labels under their starts.
pub(super) fn terminal_wave(heard: &Heard, labels: &[SoundLabel]) -> String {
    const BLOCKS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let width = output::width().min(110) - 2;
    let (columns, duration_s) = (outline(heard, width), heard.measures.duration_s);
    let peak = columns.iter().map(|(low, high)| low.abs().max(high.abs())).fold(1e-6, f32::max);
    let wave: String = columns
        .iter()
        .map(|(low, high)| BLOCKS[((high - low) / (2.0 * peak) * 8.0).round().clamp(0.0, 8.0) as usize])
        .collect();
    let mut scale = " ".repeat(width);
    let step = (duration_s / 6.0).max(1e-3);
    for tick in 0..6 {
        let mark = format!("{:.1} s", f64::from(tick) * step);
        let at = width * tick as usize / 6;
        scale.replace_range(at..at + mark.len(), &mark);
    }
    let mut text = format!(" {wave}\n {}\n", scale.trim_end());
    let mut rows = [String::new(), String::new(), String::new()];
    for label in labels.iter().filter(|label| (0.0..duration_s).contains(&label.start)) {
        let at = (label.start / duration_s * width as f64) as usize;
        if let Some(row) = rows.iter_mut().find(|row| row.chars().count() <= at) {
            *row += &" ".repeat(at - row.chars().count());
            *row += &format!("{} ", label.text);
        }
    }
    rows.iter().filter(|row| !row.is_empty()).for_each(|row| text += &format!(" {}\n", row.trim_end()));
    text
}

/// Bands of the picture's spectrogram.
const BANDS: usize = 64;

/// The lines of a label without times, over the whole recording.
fn untimed_labels(text: &str, duration_s: f64) -> Vec<SoundLabel> {
    const LINE: usize = 120;
    const LINES: usize = 3;
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if line.chars().count() + word.chars().count() < LINE => *line += &format!(" {word}"),
            _ => lines.push(word.to_owned()),
        }
    }
    if lines.len() > LINES {
        lines.truncate(LINES);
        lines[LINES - 1] += " …";
    }
    lines.into_iter().map(|text| SoundLabel { text, start: 0.0, end: duration_s }).collect()
}

pub(super) fn picture(one: &Measured, heard: &Heard, item: &Item) -> Result<SoundPicture, Problem> {
    let duration_s = one.measures.duration_s;
    let step_s = (duration_s / WAVE_COLUMNS as f64).max(0.005);
    let mut mel = MelMeter::new(one.rate_hz, BANDS, step_s);
    play(heard, item, &mut |samples| mel.add(samples))?;
    let spectrogram = mel.finish();
    Ok(SoundPicture {
        title: name(one),
        subtitle: format!(
            "{:.2} s, {} Hz, loudness {}, true peak {}, SNR {}; blue stretches are pauses{}",
            one.measures.duration_s,
            one.rate_hz,
            level(one.loudness_lufs, "LUFS"),
            level(one.true_peak_dbtp, "dBTP"),
            level(one.measures.snr_db, "dB"),
            if item.untimed.is_empty() { "" } else { "; the label has no times" }
        ),
        duration_s,
        wave: outline(heard, WAVE_COLUMNS),
        spectrum: spectrogram.columns,
        bands_hz: spectrogram.bands_hz,
        labels: if item.labels.is_empty() {
            untimed_labels(&item.untimed, duration_s)
        } else {
            let inside = |label: &&SoundLabel| (0.0..duration_s).contains(&label.start);
            let cut = |label: &SoundLabel| SoundLabel { end: label.end.min(duration_s), ..label.clone() };
            item.labels.iter().filter(inside).map(cut).collect()
        },
        pauses: one.pauses.iter().map(|pause| (pause.start, pause.end)).collect(),
    })
}
