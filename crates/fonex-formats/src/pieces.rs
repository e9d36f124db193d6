//! Several files read as one: the JSON Lines or Parquet files of a folder, in the order of their names; or a single file.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::RwLock;

use crate::folder::TEXTS;
use crate::{Place, Problem, Share, columnar, regular};

/// The files of one input.
pub(crate) struct Pieces {
    files: Vec<PathBuf>,
    /// For each file that was begun, the lines and bytes before it.
    begun: RwLock<Vec<Begun>>,
    wanted: Wanted,
}

/// What is read of an input.
#[derive(Clone, Copy)]
#[cfg_attr(not(feature = "parquet"), expect(dead_code, reason = "only tables are asked for less than all they hold"))]
pub(crate) struct Wanted {
    pub(crate) holds: Holds,
    /// Only the records of this share.
    pub(crate) share: Option<Share>,
    /// Of tables only this column.
    pub(crate) column: Option<&'static str>,
}

impl From<Holds> for Wanted {
    fn from(holds: Holds) -> Self {
        Self { holds, share: None, column: None }
    }
}

/// What the records of an input are.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Holds {
    /// Clips, of which the names of folders may say more.
    Labels,
    /// Results, of which they say nothing.
    Results,
}

struct Begun {
    lines: u64,
    bytes: u64,
    /// A Parquet file as lines, which are gone with this.
    as_lines: Option<columnar::AsLines>,
}

/// Folders within folders, such as `lang=en/channel=radio`.
const DEEPEST: usize = 8;

fn has_ending(path: &Path, wanted: &str) -> bool {
    path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case(wanted))
}

/// The files below a folder that end so. What begins with a dot or an underscore is none of them, as the writers of such folders mean it;
/// of folders only those named `key=value` are looked into.
fn below(folder: &Path, ending: &str, depth: usize, found: &mut Vec<PathBuf>) -> std::io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        let Some(name) = path.file_name().and_then(|name| name.to_str()) else { continue };
        if name.starts_with(['.', '_']) {
            continue;
        }
        if path.is_dir() {
            if name.contains('=') && depth < DEEPEST {
                below(&path, ending, depth + 1, found)?;
            }
        } else if has_ending(&path, ending) {
            found.push(path);
        }
    }
    Ok(())
}

/// The files that a folder is made of; none where it holds labels or results in files named after the clips.
fn of_folder(folder: &Path) -> std::io::Result<Option<Vec<PathBuf>>> {
    let mut found = Vec::new();
    below(folder, "parquet", 0, &mut found)?;
    if found.is_empty() {
        for entry in fs::read_dir(folder)? {
            let path = entry?.path();
            if TEXTS.iter().any(|ending| has_ending(&path, ending)) {
                return Ok(None);
            }
        }
        // Lines say everything themselves: what a folder's name says of them would be lost.
        below(folder, "jsonl", DEEPEST, &mut found)?;
    }
    found.sort_unstable();
    Ok((!found.is_empty()).then_some(found))
}

/// Whether this is read line by line: a file that is no table, or a folder of such files.
#[must_use]
pub fn is_lines(path: &Path) -> bool {
    if path.is_dir() {
        return of_folder(path).is_ok_and(|found| found.is_some());
    }
    path.is_file() && !has_ending(path, "csv") && !has_ending(path, "tsv")
}

/// Bytes of an input, all its files together; 0 where that cannot be told.
#[must_use]
pub fn input_bytes(path: &Path) -> u64 {
    let length = |path: &Path| path.metadata().map_or(0, |file| if file.is_file() { file.len() } else { 0 });
    match of_folder(path) {
        Ok(Some(files)) => files.iter().map(|file| length(file)).sum(),
        _ => length(path),
    }
}

impl Pieces {
    /// The files of an input.
    pub(crate) fn of(path: &Path, wanted: impl Into<Wanted>) -> Result<Self, Problem> {
        let files = if path.is_dir() {
            let found = of_folder(path).map_err(|error| Problem::io("read", path, &error))?;
            found
                .ok_or_else(|| Problem::new("this folder holds no .jsonl and no .parquet file", Place::file(path)))?
        } else {
            vec![path.to_owned()]
        };
        Ok(Self { files, begun: RwLock::default(), wanted: wanted.into() })
    }

    /// Whether this holds of any of the files.
    pub(crate) fn any(&self, mut holds: impl FnMut(&Path) -> std::io::Result<bool>) -> Result<bool, Problem> {
        for (at, path) in self.files.iter().enumerate() {
            if holds(path).map_err(|error| self.problem(at, &error))? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    pub(crate) const fn share(&self) -> Option<Share> {
        self.wanted.share
    }

    /// Where a line stands, by its number among the lines of all files.
    pub(crate) fn place(&self, number: u64) -> Place {
        let begun = self.begun.read().expect("no holder of this lock panics");
        let at = begun.partition_point(|piece| piece.lines < number).saturating_sub(1);
        let before = begun.get(at).map_or(0, |piece| piece.lines);
        Place::line(&self.files[at], number - before)
    }

    pub(crate) fn problem(&self, at: usize, error: &std::io::Error) -> Problem {
        Problem::io("read", &self.files[at.min(self.files.len() - 1)], error)
    }

    /// Opens a file from its beginning; none behind the last. Those before it have been read to their ends.
    pub(crate) fn begin(&self, at: usize, lines: u64, bytes: u64) -> Result<Option<File>, Problem> {
        let Some(path) = self.files.get(at) else { return Ok(None) };
        let known = self.begun.read().expect("no holder of this lock panics").len() > at;
        if !known {
            let as_lines =
                if has_ending(path, "parquet") { Some(columnar::as_lines(path, self.wanted)?) } else { None };
            self.begun.write().expect("no holder of this lock panics").push(Begun { lines, bytes, as_lines });
        }
        self.open(at).map(Some)
    }

    /// A handle of a file that was begun.
    pub(crate) fn open(&self, at: usize) -> Result<File, Problem> {
        let begun = self.begun.read().expect("no holder of this lock panics");
        let opened = match begun.get(at).and_then(|piece| piece.as_lines.as_ref()) {
            Some(as_lines) => as_lines.open(),
            None => regular::open(&self.files[at]),
        };
        opened.map_err(|error| self.problem(at, &error))
    }

    /// The file that holds this byte of all, and where in it.
    pub(crate) fn at(&self, offset: u64) -> (usize, u64) {
        let begun = self.begun.read().expect("no holder of this lock panics");
        let at = begun.partition_point(|piece| piece.bytes <= offset).saturating_sub(1);
        (at, offset - begun.get(at).map_or(0, |piece| piece.bytes))
    }
}
