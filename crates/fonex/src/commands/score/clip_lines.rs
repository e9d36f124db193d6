//! A file with one line a clip, for other tools.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use fonex_core::Clip;
use fonex_core::accuracy::{ClipScore, WordStep};
use fonex_core::align::EditCounts;
use fonex_formats::Problem;
use serde::Serialize;

/// The file, while it is written.
pub struct ClipLines {
    path: PathBuf,
    file: BufWriter<File>,
}

#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct ClipLine<'l> {
    #[serde(skip_serializing_if = "Option::is_none")]
    heard: Option<&'l str>,
    id: &'l str,
    words: EditCounts,
    characters: EditCounts,
    steps: &'l [WordStep],
}

/// Appends a clip's line.
pub fn clip_line(lines: &mut Vec<u8>, heard: Option<&str>, clip: &Clip, score: &ClipScore) {
    let ClipScore { words, characters, steps } = score;
    let line = ClipLine { heard, id: &clip.id, words: *words, characters: *characters, steps };
    serde_json::to_writer(&mut *lines, &line).expect("a score is plain data");
    lines.push(b'\n');
}

impl ClipLines {
    pub fn create(path: &Path) -> Result<Self, Problem> {
        let file = File::create(path).map_err(|error| Problem::io("write", path, &error))?;
        Ok(Self { path: path.to_owned(), file: BufWriter::new(file) })
    }

    pub fn write(&mut self, lines: &[u8]) -> Result<(), Problem> {
        self.file.write_all(lines).map_err(|error| Problem::io("write", &self.path, &error))
    }

    pub fn finish(mut self) -> Result<(), Problem> {
        self.file.flush().map_err(|error| Problem::io("write", &self.path, &error))
    }
}
