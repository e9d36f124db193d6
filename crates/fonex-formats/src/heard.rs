//! Results that any recogniser gave, in any form Fonex reads.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use fonex_core::{Alternative, Heard, HeardWord, TimedWord};
use serde::{Deserialize, Serialize};

use crate::corpus::check_text;
use crate::lines::Lines;
use crate::pieces::{Holds, is_lines};
use crate::{Place, Problem, Problems, captions, folder, parse_strict, table};

/// One line of a results file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HeardRecord {
    /// The clip heard.
    pub id: String,
    /// The text heard.
    pub text: String,
    /// Words with times and confidences.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<HeardWord>,
    /// Further readings.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alternatives: Vec<Alternative>,
    /// Stretches longer than a word, with their times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub segments: Vec<TimedWord>,
    /// The language the engine says was spoken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lang: Option<String>,
    /// Confidence in the whole text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
    /// Wall time in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took_ms: Option<f64>,
}

impl HeardRecord {
    /// Pairs a result with its clip's id.
    #[must_use]
    pub fn new(id: String, heard: Heard) -> Self {
        let Heard { text, words, alternatives, segments, lang, confidence, took_ms } = heard;
        Self { id, text, words, alternatives, segments, lang, confidence, took_ms }
    }

    pub(crate) fn into_heard(self) -> (String, Heard) {
        let Self { id, text, words, alternatives, segments, lang, confidence, took_ms } = self;
        (id, Heard { text, words, alternatives, segments, lang, confidence, took_ms })
    }
}

/// Results by clip id.
#[derive(Debug, Clone)]
pub struct HeardFile {
    /// The file or folder read.
    pub path: PathBuf,
    /// The results.
    pub by_id: HashMap<String, Heard>,
    /// Their ids in file order.
    pub order: Vec<String>,
}

/// Reads results, in any form a corpus comes in.
///
/// # Errors
/// Every [`Problem`] in it: unknown fields, duplicate ids, confidences outside 0 to 1.
pub fn read_heard(path: &Path) -> Result<HeardFile, Problems> {
    let mut reading = HeardReading::default();
    if path.is_dir() && !is_lines(path) {
        folder::read_results(path, &mut reading)?;
    } else {
        match path.extension().and_then(|e| e.to_str()) {
            Some("csv") => table::read_results(path, b',', &mut reading)?,
            Some("tsv") => table::read_results(path, b'\t', &mut reading)?,
            _ => read_lines(path, &mut reading)?,
        }
    }
    if reading.problems.is_empty() {
        Ok(HeardFile { path: path.to_owned(), by_id: reading.by_id, order: reading.order })
    } else {
        Err(Problems(reading.problems))
    }
}

fn read_lines(path: &Path, reading: &mut HeardReading) -> Result<(), Problems> {
    let mut lines = Lines::open(path, Holds::Results)?;
    let pieces = lines.pieces();
    while let Some((number, line)) = lines.next()? {
        let place = pieces.place(number);
        match parse_strict::<HeardRecord>(line, place.clone()) {
            Ok(record) => reading.add(record, place),
            Err(problem) => reading.problems.push(problem),
        }
    }
    Ok(())
}

/// A result as a line of a results file.
///
/// # Panics
/// Never: a result holds nothing that JSON cannot.
#[must_use]
pub fn heard_line(record: &HeardRecord) -> String {
    serde_json::to_string(record).expect("a result is plain data")
}

/// Results gathered so far, with what is wrong among them.
#[derive(Default)]
pub(crate) struct HeardReading {
    by_id: HashMap<String, Heard>,
    order: Vec<String>,
    pub(crate) problems: Vec<Problem>,
}

impl HeardReading {
    pub(crate) fn add(&mut self, record: HeardRecord, place: Place) {
        let (id, heard) = record.into_heard();
        if let Err(problem) = check_heard(&heard, || place.clone()) {
            self.problems.push(problem);
        }
        if self.by_id.insert(id.clone(), heard).is_some() {
            self.problems.push(second(&id, place));
            return;
        }
        self.order.push(id);
    }
}

/// The complaint about a result for a clip that has one.
pub(crate) fn second(id: &str, place: Place) -> Problem {
    Problem::new(format!("there is a second result for \"{id}\""), place.field("id"))
        .remedy("keep one result per clip; score repeats as separate files")
}

pub(crate) fn check_heard(heard: &Heard, place: impl Fn() -> Place) -> Result<(), Problem> {
    const LONGEST_MS: f64 = 1e10;
    check_text(&heard.text, || place().field("text"))?;
    if captions::are_captions(&heard.text) {
        let problem = Problem::new("the text is a caption file, numbers and times included", place().field("text"));
        return Err(
            problem.remedy("give a folder with the caption files, named ID.srt or ID.vtt, or the words alone")
        );
    }
    if let Some(took_ms) = heard.took_ms.filter(|took_ms| !(0.0..=LONGEST_MS).contains(took_ms)) {
        let problem = Problem::new(format!("it took {took_ms} ms"), place().field("took_ms"));
        return Err(problem.expected("milliseconds, 0 or more"));
    }
    for (i, word) in heard.words.iter().enumerate() {
        for (verb, key, time) in [("starts", "start", word.start), ("ends", "end", word.end)] {
            if let Some(time) =
                time.filter(|time| !(-crate::GREATEST_HEARD_TIME..=crate::GREATEST_HEARD_TIME).contains(time))
            {
                let place = place().field(format!("words[{i}].{key}"));
                let problem = Problem::new(format!("the word \"{}\" {verb} at {time} s", word.text), place);
                return Err(problem.expected("seconds from the start of the audio"));
            }
        }
    }
    for (i, word) in heard.words.iter().enumerate() {
        if let Some(confidence) = word.confidence.filter(|c| !(0.0..=1.0).contains(c)) {
            let what = format!("the confidence {confidence} of \"{}\" is not a probability", word.text);
            let place = place().field(format!("words[{i}].confidence"));
            return Err(Problem::new(what, place).expected("a number from 0 to 1"));
        }
    }
    Ok(())
}
