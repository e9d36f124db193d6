//! Labels and results as CSV or TSV with a header.

use std::fs::File;
use std::path::Path;

use fonex_core::Clip;

use crate::corpus::Reading;
use crate::heard::HeardReading;
use crate::{HeardRecord, Place, Problem, Problems, nearest};

const LABEL_COLUMNS: [&str; 6] = ["id", "audio", "text", "lang", "speaker", "terms"];
const RESULT_COLUMNS: [&str; 3] = ["id", "text", "took_ms"];
const TAG: &str = "tags.";

/// Rows with the cells of named columns. A row is a record and not a line: quoted cells may hold line breaks.
struct Rows {
    reader: csv::Reader<File>,
    header: Vec<String>,
}

impl Rows {
    fn open(path: &Path, delimiter: u8, known: &[&str], tags: bool) -> Result<Self, Problems> {
        let file = File::open(path).map_err(|error| Problem::io("read", path, &error))?;
        let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).flexible(false).from_reader(file);
        let header = reader.headers().map_err(|error| csv_problem(path, &error))?;
        let header: Vec<String> =
            header.iter().map(|name| name.trim_start_matches('\u{feff}').trim().to_owned()).collect();
        let mut problems = Vec::new();
        for name in &header {
            let is_tag = tags && name.starts_with(TAG);
            if !is_tag && !known.contains(&name.as_str()) {
                let tag_hint = if tags { ", or tags.NAME" } else { "" };
                let problem = Problem::new(format!("unknown column \"{name}\""), Place::line(path, 1))
                    .expected(format!("{}{tag_hint}", known.join(", ")));
                problems.push(match nearest(name, known.iter().copied()) {
                    Some(near) => problem.remedy(format!("write \"{near}\" if that is meant")),
                    None => problem.remedy("rename or remove the column"),
                });
            }
        }
        for needed in ["id", "text"] {
            if !header.iter().any(|name| name == needed) {
                let problem = Problem::new(format!("there is no column \"{needed}\""), Place::line(path, 1));
                problems.push(problem.remedy("name the columns in the first line"));
            }
        }
        if problems.is_empty() { Ok(Self { reader, header }) } else { Err(Problems(problems)) }
    }

    /// Calls `row` with each row's place and its filled cells.
    fn each(mut self, path: &Path, mut row: impl FnMut(Place, Vec<(&str, &str)>)) -> Result<(), Problems> {
        let mut record = csv::StringRecord::new();
        while self.reader.read_record(&mut record).map_err(|error| csv_problem(path, &error))? {
            let line = record.position().map_or(0, csv::Position::line);
            let cells = self.header.iter().map(String::as_str).zip(&record);
            row(Place::line(path, line), cells.filter(|(name, cell)| *name == "text" || !cell.is_empty()).collect());
        }
        Ok(())
    }
}

fn csv_problem(path: &Path, error: &csv::Error) -> Problem {
    let line = error.position().map(csv::Position::line);
    let place = Place { file: Some(path.to_owned()), line, field: None };
    match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
            Problem::new(format!("the row has {len} cells"), place)
                .expected(format!("{expected_len}, as in the header"))
                .remedy("put cells that hold the separator in double quotes")
        }
        csv::ErrorKind::Utf8 { .. } => Problem::new("the row is not UTF-8", place).remedy("save the file as UTF-8"),
        csv::ErrorKind::Io(error) => Problem::io("read", path, error),
        other => Problem::new(format!("the table cannot be read: {other:?}"), place),
    }
}

pub(crate) fn read_labels(path: &Path, delimiter: u8, reading: &mut Reading) -> Result<(), Problems> {
    Rows::open(path, delimiter, &LABEL_COLUMNS, true)?.each(path, |place, cells| {
        let mut clip = Clip {
            id: String::new(),
            audio: None,
            text: String::new(),
            lang: None,
            speaker: None,
            tags: Default::default(),
            terms: Vec::new(),
            words: Vec::new(),
        };
        for (name, cell) in cells {
            let value = cell.to_owned();
            match name {
                "id" => clip.id = value,
                "audio" => clip.audio = Some(value),
                "text" => clip.text = value,
                "lang" => clip.lang = Some(value),
                "speaker" => clip.speaker = Some(value),
                "terms" => clip.terms = cell.split(';').map(|term| term.trim().to_owned()).collect(),
                _ => drop(clip.tags.insert(name[TAG.len()..].to_owned(), value)),
            }
        }
        reading.add(clip, place);
    })
}

pub(crate) fn read_results(path: &Path, delimiter: u8, reading: &mut HeardReading) -> Result<(), Problems> {
    Rows::open(path, delimiter, &RESULT_COLUMNS, false)?.each(path, |place, cells| {
        let cell = |wanted: &str| cells.iter().find(|(name, _)| *name == wanted).map(|(_, cell)| *cell);
        let took_ms = cell("took_ms").map(str::parse).transpose().unwrap_or_else(|_| {
            let problem = Problem::new("the time taken is not a number", place.clone().field("took_ms"));
            reading.problems.push(problem.expected("milliseconds"));
            None
        });
        let id = cell("id").unwrap_or_default().to_owned();
        let text = cell("text").unwrap_or_default().to_owned();
        reading.add(HeardRecord { id, text, words: Vec::new(), alternatives: Vec::new(), took_ms }, place);
    })
}
