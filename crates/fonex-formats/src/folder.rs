//! Labels and results as a folder of files named after the clips.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use fonex_core::{Clip, Heard};
use serde_json::{Map, Value};

use crate::corpus::Reading;
use crate::heard::HeardReading;
use crate::{HeardRecord, Place, Problem, Problems, captions, parse_strict};

pub(crate) const TEXTS: [&str; 4] = ["json", "vtt", "srt", "txt"];
/// Endings under which audio is looked for beside a label.
pub(crate) const SOUNDS: [&str; 10] = ["wav", "flac", "mp3", "ogg", "opus", "m4a", "aac", "aif", "aiff", "caf"];

/// The files of a folder by their name without ending, then by ending. Subfolders are left alone.
fn by_stem(folder: &Path) -> Result<BTreeMap<String, BTreeMap<String, PathBuf>>, Problem> {
    let io = |error: std::io::Error| Problem::io("read", folder, &error);
    let mut found: BTreeMap<String, BTreeMap<String, PathBuf>> = BTreeMap::new();
    for entry in fs::read_dir(folder).map_err(io)? {
        let path = entry.map_err(io)?.path();
        let stem = path.file_stem().and_then(|s| s.to_str());
        let ending = path.extension().and_then(|e| e.to_str()).map(str::to_lowercase);
        if let (Some(stem), Some(ending), true) = (stem, ending, path.is_file()) {
            found.entry(stem.to_owned()).or_default().insert(ending, path.clone());
        }
    }
    Ok(found)
}

/// The label or result file of a clip; two of them are a problem, since either may be the right one.
fn text_file<'f>(
    id: &str,
    files: &'f BTreeMap<String, PathBuf>,
) -> Result<Option<(&'static str, &'f Path)>, Problem> {
    let mut texts = TEXTS.into_iter().filter_map(|ending| Some((ending, files.get(ending)?.as_path())));
    let first = texts.next();
    match (first, texts.next()) {
        (Some((_, one)), Some((_, other))) => {
            let what = format!("\"{id}\" has two texts, this one and {}", other.display());
            Err(Problem::new(what, Place::file(one)).remedy("keep one of them"))
        }
        (first, _) => Ok(first),
    }
}

fn read_text(path: &Path) -> Result<String, Problem> {
    let text = crate::regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
    Ok(text.trim_start_matches('\u{feff}').to_owned())
}

/// The text of a `.txt`, `.srt` or `.vtt` file as one line.
fn flat_text(ending: &str, path: &Path) -> Result<String, Problem> {
    let text = read_text(path)?;
    let flat = match ending {
        "txt" => text,
        _ => captions::parse(&text, path)?.iter().map(|cue| cue.text.as_str()).collect::<Vec<_>>().join(" "),
    };
    Ok(flat.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// A JSON object, with the id taken from the file name where it has none.
fn json_with_id<T: serde::de::DeserializeOwned>(id: &str, path: &Path) -> Result<T, Problem> {
    let place = Place::file(path);
    let mut object: Map<String, Value> = parse_strict(&read_text(path)?, place.clone())?;
    let named = object.entry("id").or_insert_with(|| id.into());
    if named != id {
        let problem = Problem::new(format!("the file holds the clip {named}, not \"{id}\""), place.field("id"));
        return Err(problem.remedy("name the file after the clip"));
    }
    parse_strict(&Value::Object(object).to_string(), place)
}

/// The audio files of a folder, by name without ending.
///
/// # Errors
/// When the folder cannot be read.
pub fn audio_beside(folder: &Path) -> Result<Vec<(String, PathBuf)>, Problem> {
    let sound = |files: BTreeMap<String, PathBuf>| SOUNDS.into_iter().find_map(|ending| files.get(ending).cloned());
    Ok(by_stem(folder)?.into_iter().filter_map(|(id, files)| Some((id, sound(files)?))).collect())
}

pub(crate) fn read_labels(folder: &Path, reading: &mut Reading) -> Result<(), Problems> {
    for (id, files) in by_stem(folder)? {
        let audio = SOUNDS.into_iter().find_map(|ending| files.get(ending)?.file_name()?.to_str().map(str::to_owned));
        let found = text_file(&id, &files).and_then(|text| match text {
            Some(("json", path)) => json_with_id::<Clip>(&id, path).map(|clip| Some((clip, path))),
            Some((ending, path)) => {
                let clip = match ending {
                    "txt" => Clip { text: flat_text(ending, path)?, ..Clip::default() },
                    _ => captions::clip_from(&captions::parse(&read_text(path)?, path)?),
                };
                Ok(Some((Clip { id: id.clone(), ..clip }, path)))
            }
            None => Ok(None),
        });
        match found {
            Ok(Some((mut clip, path))) => {
                clip.audio = clip.audio.or(audio);
                reading.add(clip, Place::file(path));
            }
            Ok(None) => {}
            Err(problem) => reading.problems.push(problem),
        }
    }
    Ok(())
}

pub(crate) fn read_results(folder: &Path, reading: &mut HeardReading) -> Result<(), Problems> {
    for (id, files) in by_stem(folder)? {
        let found = text_file(&id, &files).and_then(|text| match text {
            Some(("json", path)) => json_with_id::<HeardRecord>(&id, path).map(|record| Some((record, path))),
            Some((ending, path)) => {
                let heard = match ending {
                    "txt" => Heard { text: flat_text(ending, path)?, ..Heard::default() },
                    _ => captions::heard_from(&captions::parse(&read_text(path)?, path)?),
                };
                Ok(Some((HeardRecord::new(id.clone(), heard), path)))
            }
            None => Ok(None),
        });
        match found {
            Ok(Some((record, path))) => reading.add(record, Place::file(path)),
            Ok(None) => {}
            Err(problem) => reading.problems.push(problem),
        }
    }
    Ok(())
}
