//! Corpora: JSON Lines files of clips, and the other forms labels come in.

use std::collections::HashMap;
use std::path::{Component, Path, PathBuf};

use fonex_core::Clip;
use fonex_core::text::Label;

use crate::lines::Lines;
use crate::pieces::{Holds, is_lines};
use crate::{LATEST_S, LONGEST_TEXT};
use crate::{Place, Problem, Problems, checksum, folder, parse_strict, table};

/// A corpus in memory.
#[derive(Debug, Clone)]
pub struct Corpus {
    /// The file or folder it was read from.
    pub path: PathBuf,
    /// What audio paths are relative to.
    pub folder: PathBuf,
    /// The clips, in file order.
    pub clips: Vec<Clip>,
    /// SHA-256 of the clips as JSON Lines: the same whatever form they were read from.
    pub checksum: String,
}

impl Corpus {
    /// The clip with this id.
    #[must_use]
    pub fn clip(&self, id: &str) -> Option<&Clip> {
        self.clips.iter().find(|clip| clip.id == id)
    }
}

/// Reads a corpus: a JSON Lines file, a CSV or TSV file with a header, a Parquet file, a folder of `.txt`, `.srt`, `.vtt` or `.json`
/// files named after the clips, or one of JSON Lines or Parquet files, which are read as one.
///
/// # Errors
/// Every [`Problem`] in it: unknown fields, duplicate ids, broken labels, impossible times, paths that leave the folder.
pub fn read_corpus(path: &Path) -> Result<Corpus, Problems> {
    let mut reading = Reading::default();
    if path.is_dir() && !is_lines(path) {
        folder::read_labels(path, &mut reading)?;
    } else {
        match path.extension().and_then(|e| e.to_str()) {
            Some("csv") => table::read_labels(path, b',', &mut reading)?,
            Some("tsv") => table::read_labels(path, b'\t', &mut reading)?,
            _ => read_lines(path, &mut reading)?,
        }
    }
    if reading.clips.is_empty() && reading.problems.is_empty() {
        reading.problems.push(no_clip(path));
    }
    if !reading.problems.is_empty() {
        return Err(Problems(reading.problems));
    }
    let folder = corpus_folder(path);
    let mut written = String::new();
    for clip in &reading.clips {
        written.push_str(&corpus_line(clip));
        written.push('\n');
    }
    Ok(Corpus {
        path: path.to_owned(),
        folder: folder.to_owned(),
        clips: reading.clips,
        checksum: checksum::of_bytes(written.as_bytes()),
    })
}

fn read_lines(path: &Path, reading: &mut Reading) -> Result<(), Problems> {
    let mut lines = Lines::open(path, Holds::Labels)?;
    let pieces = lines.pieces();
    while let Some((number, line)) = lines.next()? {
        let place = pieces.place(number);
        match parse_strict::<Clip>(line, place.clone()) {
            Ok(clip) => reading.add(clip, place),
            Err(problem) => reading.problems.push(problem),
        }
    }
    Ok(())
}

/// A clip as a line of a corpus file.
///
/// # Panics
/// Never: a clip holds nothing that JSON cannot.
#[must_use]
pub fn corpus_line(clip: &Clip) -> String {
    serde_json::to_string(clip).expect("a clip is plain data")
}

/// The folder that the audio of a corpus is found from: the corpus itself, or where its file lies.
#[must_use]
pub fn corpus_folder(corpus: &Path) -> &Path {
    if corpus.is_dir() { corpus } else { corpus.parent().unwrap_or(Path::new("")) }
}

/// The file of a clip's audio, which never lies outside the corpus folder.
#[must_use]
pub fn audio_path(folder: &Path, clip: &Clip) -> Option<PathBuf> {
    clip.audio.as_ref().map(|audio| folder.join(audio))
}

/// Clips gathered so far, with what is wrong among them.
#[derive(Default)]
pub(crate) struct Reading {
    pub(crate) clips: Vec<Clip>,
    pub(crate) problems: Vec<Problem>,
    seen: HashMap<String, Place>,
}

impl Reading {
    pub(crate) fn add(&mut self, clip: Clip, place: Place) {
        if let Err(problem) = check_clip(&clip, || place.clone()) {
            self.problems.push(problem);
        }
        if let Some(first) = self.seen.get(&clip.id) {
            self.problems.push(taken(&clip.id, place, first));
            return;
        }
        self.seen.insert(clip.id.clone(), place);
        self.clips.push(clip);
    }
}

/// The complaint about a corpus without a clip.
pub(crate) fn no_clip(path: &Path) -> Problem {
    Problem::new("the corpus holds no clip", Place::file(path)).expected("one clip a line, with id and text")
}

/// The complaint about an id that stood before.
pub(crate) fn taken(id: &str, place: Place, first: impl std::fmt::Display) -> Problem {
    Problem::new(format!("duplicate id \"{id}\""), place.field("id"))
        .remedy(format!("give each clip its own id; the first is at {first}"))
}

/// Tags of one clip; results are sliced by each.
const MOST_TAGS: usize = 200;

/// Checks that a text is one of a recording.
pub(crate) fn check_text(text: &str, place: impl Fn() -> Place) -> Result<(), Problem> {
    if text.len() > LONGEST_TEXT {
        let what = format!("the text has {} MiB", text.len() >> 20);
        return Err(Problem::new(what, place()).expected(format!("{} MiB at most", LONGEST_TEXT >> 20)));
    }
    Ok(())
}

/// What is wrong with a clip; `place` says where it stands.
pub(crate) fn check_clip(clip: &Clip, place: impl Fn() -> Place) -> Result<(), Problem> {
    if clip.id.trim().is_empty() {
        return Err(Problem::new("the id is empty", place().field("id")).remedy("name the clip"));
    }
    check_text(&clip.text, || place().field("text"))?;
    if clip.tags.len() > MOST_TAGS {
        let problem = Problem::new(format!("the clip has {} tags", clip.tags.len()), place().field("tags"));
        return Err(problem.expected(format!("{MOST_TAGS} at most")));
    }
    Label::check(&clip.text)
        .map_err(|error| Problem::new(error.to_string(), place().field("text")).expected("a label text"))?;
    if let Some(audio) = &clip.audio {
        let path = Path::new(audio);
        if path.components().any(|part| !matches!(part, Component::Normal(_) | Component::CurDir)) {
            let problem =
                Problem::new(format!("the audio path \"{audio}\" leaves the corpus folder"), place().field("audio"));
            return Err(problem
                .expected("a path below the folder of the corpus file")
                .remedy("move or link the audio into that folder"));
        }
    }
    let words = clip.words.iter().enumerate().map(|(at, word)| ("word", at, word));
    let segments = clip.segments.iter().enumerate().map(|(at, segment)| ("segment", at, segment));
    for (what, at, word) in words.chain(segments) {
        let field = |name: &str| place().field(format!("{what}s[{at}].{name}"));
        for (verb, key, time) in [("starts", "start", word.start), ("ends", "end", word.end)] {
            if !(0.0..=LATEST_S).contains(&time) {
                let what = format!("the {what} \"{}\" {verb} at {time} s", word.text);
                let problem = Problem::new(what, field(key)).expected("seconds from the start of the audio");
                return Err(problem.remedy("divide by 1000 if they are milliseconds"));
            }
        }
        if word.end < word.start {
            let what =
                format!("the {what} \"{}\" ends at {} s, before its start at {} s", word.text, word.end, word.start);
            return Err(Problem::new(what, field("end")).expected("an end at or after the start"));
        }
    }
    Ok(())
}
