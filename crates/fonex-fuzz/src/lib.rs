//! What a fuzzer runs: every reader of what others wrote, with whole files to begin from. A target fails by panicking: where a reader
//! panics, and where what it read cannot be true.
#![allow(clippy::expect_used, clippy::missing_panics_doc, reason = "a target fails by panicking")]

mod answers;
mod files;
mod records;
mod texts;

use std::path::{Path, PathBuf};

use tempfile::TempDir;

/// One reader, or several of the same input.
pub struct Target {
    /// Its name on the command line.
    pub name: &'static str,
    /// The ending of its files, where it tells what they are.
    ending: &'static str,
    whole: fn() -> Vec<Vec<u8>>,
    read: fn(&Path, &[u8]),
}

/// All targets.
pub const TARGETS: &[Target] = &[
    files::CORPORA,
    files::TABLES,
    files::RESULTS,
    files::CAPTIONS,
    files::BENCHES,
    files::PROFILES,
    files::SOUND,
    files::SECRETS,
    answers::JSON,
    answers::STREAMS,
    answers::LINES,
    texts::LABELS,
    texts::MARKUP,
    records::TRIALS,
    records::BASELINES,
    records::PANELS,
    records::COLUMNS,
    #[cfg(feature = "parquet")]
    files::PARQUET,
];

/// The target of this name.
#[must_use]
pub fn target(name: &str) -> Option<&'static Target> {
    TARGETS.iter().find(|target| target.name == name)
}

impl Target {
    /// Whole files it reads.
    #[must_use]
    pub fn whole(&self) -> Vec<Vec<u8>> {
        (self.whole)()
    }

    /// Has these bytes read.
    pub fn run(&self, scratch: &Scratch, bytes: &[u8]) {
        let path = scratch.folder.path().join(format!("file.{}", self.ending));
        std::fs::write(&path, bytes).expect("there is room");
        (self.read)(&path, bytes);
    }
}

/// Where the files of an execution stand: in memory where there is such a place, since a disk would take most of the time.
pub struct Scratch {
    folder: TempDir,
}

impl Scratch {
    /// An empty one.
    #[must_use]
    pub fn new() -> Self {
        let memory = PathBuf::from("/dev/shm");
        let place = if memory.is_dir() { memory } else { std::env::temp_dir() };
        Self { folder: tempfile::tempdir_in(place).expect("there is room") }
    }
}

impl Default for Scratch {
    fn default() -> Self {
        Self::new()
    }
}

/// Whether a moment or a length can be one.
fn is_time(seconds: f64) -> bool {
    seconds.is_finite() && seconds >= 0.0
}
