//! `fonex audio --cut`: a long recording in pieces, cut at its pauses.

use std::fs;
use std::path::Path;

use fonex_core::audio::{Audio, PauseRule, Stretch, cut_at_pauses};
use fonex_formats::audio::encode_flac;
use fonex_formats::{Place, Problem};

use crate::facts::with_progress;
use crate::output::{Cell, Table, plural, seconds};

/// Writes `STEM-0001.flac` and on, and `pieces.csv` with where each stood in the recording. Gives what was done, in words.
pub fn write_pieces(audio: &Audio, stem: &str, rule: &PauseRule, folder: &Path) -> Result<String, Problem> {
    let pieces = cut_at_pauses(audio, rule);
    if pieces.is_empty() {
        return Err(Problem::new("there is no sound to cut", Place::default()));
    }
    let list = folder.join("pieces.csv");
    if list.exists() {
        return Err(Problem::new("this folder already holds pieces", Place::file(folder)).remedy("give a new folder"));
    }
    fs::create_dir_all(folder).map_err(|error| Problem::io("make", folder, &error))?;
    let at = |s: f64| ((s * f64::from(audio.rate_hz)).round() as usize).min(audio.samples.len());
    let name = |number: usize| format!("{stem}-{number:04}.flac");
    // The encoder is what takes the time.
    let numbered: Vec<(usize, &Stretch)> = (1..).zip(&pieces).collect();
    let written = with_progress("cutting", &numbered, |(number, piece)| {
        let path = folder.join(name(*number));
        let samples = audio.samples[at(piece.start)..at(piece.end)].to_vec();
        let flac = encode_flac(&Audio { rate_hz: audio.rate_hz, samples })
            .map_err(|error| Problem::new(error.to_string(), Place::file(&path)))?;
        fs::write(&path, flac).map_err(|error| Problem::io("write", &path, &error))
    });
    written.into_iter().collect::<Result<(), Problem>>()?;
    let mut table = Table::new([("audio", 0), ("start", 0), ("end", 0)]);
    for (number, piece) in &numbered {
        let at_ms = |s: f64| Cell::Number((s * 1e3).round() / 1e3, 3);
        table.row([Cell::text(name(*number)), at_ms(piece.start), at_ms(piece.end)]);
    }
    fs::write(&list, table.csv()).map_err(|error| Problem::io("write", &list, &error))?;
    let longest = pieces.iter().map(|piece| piece.end - piece.start).fold(0.0, f64::max);
    let count = plural(pieces.len() as u64, "piece");
    Ok(format!("Wrote {count}, the longest {}, and {}.\n", seconds(longest), list.display()))
}
