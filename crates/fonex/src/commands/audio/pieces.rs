//! `fonex audio --cut`: a long recording in pieces, cut at its pauses.

use std::fs;
use std::path::Path;

use fonex_core::audio::{Audio, Stretch};
use fonex_core::in_parallel;
use fonex_formats::audio::encode_flac;
use fonex_formats::{Place, Problem};

use crate::output::{Cell, Table, count_bar, plural, seconds};

/// Pieces that are encoded at a time: the encoder is what takes the time, and all cores have something to do.
const AT_ONCE: usize = 64;
/// And no more samples than these, where pieces are long.
const SAMPLES_AT_ONCE: usize = 8 << 20;

/// What is cut, and how its pieces are called.
pub struct Cutting<'c> {
    pub rate_hz: u32,
    pub pieces: &'c [Stretch],
    pub stem: String,
}

impl Cutting<'_> {
    /// Writes `STEM-0001.flac` and on, and `pieces.csv` with where each stood in the recording, whose sound `play` hands over in order. Gives
    /// what was done, in words.
    pub fn write(
        &self,
        folder: &Path,
        play: impl FnOnce(&mut dyn FnMut(&[f32])) -> Result<(), Problem>,
    ) -> Result<String, Problem> {
        if self.pieces.is_empty() {
            return Err(Problem::new("there is no sound to cut", Place::default()));
        }
        let list = folder.join("pieces.csv");
        if list.exists() {
            let problem = Problem::new("this folder already holds pieces", Place::file(folder));
            return Err(problem.remedy("give a new folder"));
        }
        fs::create_dir_all(folder).map_err(|error| Problem::io("make", folder, &error))?;
        let bar = count_bar("cutting", self.pieces.len() as u64, "pieces");
        let empty = |number| Piece { number, audio: Audio { rate_hz: self.rate_hz, samples: Vec::new() } };
        let (mut at, mut next, mut waiting) = (0, empty(0), Vec::new());
        let (mut samples_waiting, mut written) = (0, Ok(()));
        play(&mut |samples| {
            let mut samples = samples;
            at += samples.len();
            while let Some(piece) = self.pieces.get(next.number) {
                let (start, end) = (self.sample(piece.start), self.sample(piece.end).max(self.sample(piece.start)));
                // `at` is the end of what came: the rest of it begins that much earlier.
                let held = next.audio.samples.len();
                let from = (start + held).saturating_sub(at - samples.len()).min(samples.len());
                let (own, rest) = samples[from..].split_at((end - start - held).min(samples.len() - from));
                next.audio.samples.extend_from_slice(own);
                samples = rest;
                if held + own.len() < end - start {
                    break;
                }
                samples_waiting += held + own.len();
                let following = empty(next.number + 1);
                waiting.push(std::mem::replace(&mut next, following));
                if waiting.len() == AT_ONCE || samples_waiting > SAMPLES_AT_ONCE {
                    // What cannot be written is told at the end; the rest is not kept for it.
                    if written.is_ok() {
                        written = self.encode(folder, &waiting);
                    }
                    bar.inc(waiting.len() as u64);
                    waiting.clear();
                    samples_waiting = 0;
                }
            }
        })?;
        // The last may end a little behind the sound.
        waiting.extend((!next.audio.samples.is_empty()).then_some(next));
        written.and_then(|()| self.encode(folder, &waiting))?;
        bar.finish_and_clear();
        let mut table = Table::new([("audio", 0), ("start", 0), ("end", 0)]);
        for (number, piece) in self.pieces.iter().enumerate() {
            let at_ms = |s: f64| Cell::Number((s * 1e3).round() / 1e3, 3);
            table.row([Cell::text(self.name(number)), at_ms(piece.start), at_ms(piece.end)]);
        }
        fs::write(&list, table.csv()).map_err(|error| Problem::io("write", &list, &error))?;
        let longest = self.pieces.iter().map(|piece| piece.end - piece.start).fold(0.0, f64::max);
        let count = plural(self.pieces.len() as u64, "piece");
        Ok(format!("Wrote {count}, the longest {}, and {}.\n", seconds(longest), list.display()))
    }

    fn sample(&self, s: f64) -> usize {
        (s * f64::from(self.rate_hz)).round() as usize
    }

    fn name(&self, number: usize) -> String {
        format!("{}-{:04}.flac", self.stem, number + 1)
    }

    fn encode(&self, folder: &Path, pieces: &[Piece]) -> Result<(), Problem> {
        let written = in_parallel(pieces, |piece| {
            let path = folder.join(self.name(piece.number));
            let flac =
                encode_flac(&piece.audio).map_err(|error| Problem::new(error.to_string(), Place::file(&path)))?;
            fs::write(&path, flac).map_err(|error| Problem::io("write", &path, &error))
        });
        written.into_iter().collect()
    }
}

/// The sound of a piece, as far as it has come.
struct Piece {
    number: usize,
    audio: Audio,
}
