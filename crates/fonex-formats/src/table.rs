//! Labels and results as CSV or TSV with a header.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, ErrorKind, Read};
use std::path::Path;
use std::rc::Rc;

use fonex_core::{Clip, Heard};

use crate::corpus::Reading;
use crate::heard::HeardReading;
use crate::lines::LONGEST_LINE;
use crate::quotes::{Quotes, says_quoted};
use crate::regular;
use crate::{HeardRecord, Place, Problem, Problems, nearest};

const LABEL_COLUMNS: [&str; 6] = ["id", "audio", "text", "lang", "speaker", "terms"];
const RESULT_COLUMNS: [&str; 3] = ["id", "text", "took_ms"];
const TAG: &str = "tags.";

/// Rows with the cells of named columns. A row is a record and not a line: quoted cells may hold line breaks.
struct Rows {
    reader: csv::Reader<Bounded>,
    /// Bytes read since the last row.
    since_row: Rc<Cell<u64>>,
    /// The quotation marks read so far; none in a table without quoting.
    quotes: Option<Rc<RefCell<Quotes>>>,
    header: Vec<String>,
    /// With CRLF the reader counts a line break only once it has read past its LF, one row later.
    lines_lag: u64,
}

impl Rows {
    /// A table with any columns.
    fn open_any(path: &Path, delimiter: u8) -> Result<Self, Problem> {
        let file = regular::open(path).map_err(|error| Problem::io("read", path, &error))?;
        let since_row = Rc::new(Cell::new(0));
        let (start, quoted) = (start_of(path), delimiter != b'\t');
        // Tab-separated text has no quotation marks that mean anything, unless its header has them.
        let quoted = quoted || says_quoted(&start);
        let quotes = quoted.then(|| Rc::new(RefCell::new(Quotes::new(delimiter))));
        let bounded = Bounded { file, since_row: Rc::clone(&since_row), quotes: quotes.clone() };
        let mut reader =
            csv::ReaderBuilder::new().delimiter(delimiter).quoting(quoted).flexible(false).from_reader(bounded);
        let header = reader.headers().map_err(|error| csv_problem(path, &error, 1))?;
        let header: Vec<String> =
            header.iter().map(|name| name.trim_start_matches('\u{feff}').trim().to_owned()).collect();
        // Which of two is meant cannot be known.
        if let Some(twice) = header.iter().enumerate().find(|(at, name)| header[..*at].contains(name)) {
            let problem = Problem::new(format!("the column \"{}\" occurs twice", twice.1), Place::line(path, 1));
            return Err(problem.remedy("rename or remove one of them"));
        }
        Ok(Self { reader, since_row, quotes, header, lines_lag: u64::from(breaks_with_crlf(&start)) })
    }

    fn open(path: &Path, delimiter: u8, known: &[&str], tags: bool) -> Result<Self, Problems> {
        let rows = Self::open_any(path, delimiter)?;
        let mut problems = Vec::new();
        for name in &rows.header {
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
            if !rows.header.iter().any(|name| name == needed) {
                let problem = Problem::new(format!("there is no column \"{needed}\""), Place::line(path, 1));
                problems.push(problem.remedy("name the columns in the first line"));
            }
        }
        if problems.is_empty() { Ok(rows) } else { Err(Problems(problems)) }
    }

    /// Calls `row` with each row's place and its filled cells.
    fn each(mut self, path: &Path, mut row: impl FnMut(Place, Vec<(&str, &str)>)) -> Result<(), Problems> {
        let (mut record, mut begins) = (csv::StringRecord::new(), 2);
        loop {
            let read = self.reader.read_record(&mut record);
            // A stray quotation mark is why rows have other lengths.
            if let Some(fault) = self.quotes.as_ref().and_then(|quotes| quotes.borrow().fault()) {
                return Err(fault.problem(path).into());
            }
            if !read.map_err(|error| csv_problem(path, &error, begins))? {
                return Ok(());
            }
            self.since_row.set(0);
            begins = self.reader.position().line() + self.lines_lag;
            let line = record.position().map_or(0, csv::Position::line) + self.lines_lag;
            let cells = self.header.iter().map(String::as_str).zip(&record);
            row(Place::line(path, line), cells.filter(|(name, cell)| *name == "text" || !cell.is_empty()).collect());
        }
    }
}

/// A file that ends with an error where one row has no end.
struct Bounded {
    file: File,
    since_row: Rc<Cell<u64>>,
    quotes: Option<Rc<RefCell<Quotes>>>,
}

impl Read for Bounded {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.file.read(buffer)?;
        self.since_row.set(self.since_row.get() + read as u64);
        if let Some(quotes) = &self.quotes {
            quotes.borrow_mut().feed(&buffer[..read]);
        }
        if self.since_row.get() > LONGEST_LINE {
            return Err(ErrorKind::FileTooLarge.into());
        }
        Ok(read)
    }
}

/// The beginning of a file; nothing of one that cannot be read, which is an error where it is opened.
fn start_of(path: &Path) -> Vec<u8> {
    let mut start = Vec::new();
    let read = regular::open(path).and_then(|file| file.take(1 << 16).read_to_end(&mut start));
    read.map_or_else(|_| Vec::new(), |_| start)
}

/// Whether the first line break of a file is CRLF.
fn breaks_with_crlf(start: &[u8]) -> bool {
    let first = start.iter().position(|byte| *byte == b'\n');
    first.is_some_and(|at| at > 0 && start[at - 1] == b'\r')
}

/// `begins` is the line where the row that could not be read begins.
fn csv_problem(path: &Path, error: &csv::Error, begins: u64) -> Problem {
    let line = error.position().map(csv::Position::line);
    let place = Place { file: Some(path.to_owned()), line, field: None };
    match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
            let s = if *len == 1 { "" } else { "s" };
            let problem = Problem::new(format!("the row has {len} cell{s}"), place);
            let tabs = path.extension().is_some_and(|ending| ending == "tsv");
            problem.expected(format!("{expected_len}, as in the header")).remedy(if tabs {
                "remove tabs and line breaks from its cells, or put all cells, those of the header too, in double quotes"
            } else {
                "put cells that hold the separator in double quotes"
            })
        }
        csv::ErrorKind::Utf8 { .. } => Problem::new("the row is not UTF-8", place).remedy("save the file as UTF-8"),
        csv::ErrorKind::Io(error) if error.kind() == ErrorKind::FileTooLarge => {
            let what = format!("the row is longer than {} MiB", LONGEST_LINE >> 20);
            Problem::new(what, Place::line(path, begins)).remedy("close the open quotation mark")
        }
        csv::ErrorKind::Io(error) => Problem::io("read", path, error),
        other => Problem::new(format!("the table cannot be read: {other:?}"), place),
    }
}

/// A table read by a column mapping.
#[derive(Debug)]
pub struct MappedTable {
    /// The clips with the row each comes from; nothing is checked yet.
    pub clips: Vec<(Clip, Place)>,
    /// Columns that nothing was mapped to.
    pub unused: Vec<String>,
}

/// Reads labels from a table with any column names: `columns` gives the column of each field (`id`, `text`, `audio`,
/// `lang`, `speaker`, `terms`, `tags.NAME`). Fields that are not mapped are taken from the column of their own name; a
/// clip without an id is named after its audio.
///
/// # Errors
/// When the table cannot be read, a column or field does not exist, or there is no text.
pub fn read_mapped(path: &Path, columns: &BTreeMap<String, String>) -> Result<MappedTable, Problems> {
    let delimiter = if path.extension().is_some_and(|ending| ending == "tsv") { b'\t' } else { b',' };
    let rows = Rows::open_any(path, delimiter)?;
    let mut field_of: BTreeMap<&str, &str> = BTreeMap::new();
    for (field, column) in columns {
        if !LABEL_COLUMNS.contains(&field.as_str()) && !field.starts_with(TAG) {
            let problem =
                Problem::new(format!("there is no field \"{field}\" to map to"), Place::default().field("--map"));
            return Err(problem.expected(format!("{} or tags.NAME", LABEL_COLUMNS.join(", "))).into());
        }
        if !rows.header.contains(column) {
            let problem = Problem::new(format!("there is no column \"{column}\""), Place::line(path, 1));
            let problem = problem.expected(format!("one of {}", rows.header.join(", ")));
            return Err(match nearest(column, rows.header.iter().map(String::as_str)) {
                Some(near) => problem.remedy(format!("write \"{near}\" if that is meant")).into(),
                None => problem.into(),
            });
        }
        field_of.insert(column, field);
    }
    for column in &rows.header {
        let own = LABEL_COLUMNS.contains(&column.as_str()) || column.starts_with(TAG);
        if own && !columns.contains_key(column) && !field_of.contains_key(column.as_str()) {
            field_of.insert(column, column);
        }
    }
    if !field_of.values().any(|field| *field == "text") {
        let problem = Problem::new("no column holds the text", Place::line(path, 1));
        return Err(problem.remedy("name it: --map text=COLUMN").into());
    }
    let unused = rows.header.iter().filter(|column| !field_of.contains_key(column.as_str())).cloned().collect();
    let header = rows.header.clone();
    let fields: BTreeMap<String, String> =
        field_of.into_iter().map(|(column, field)| (column.to_owned(), field.to_owned())).collect();
    let mut clips = Vec::new();
    let stem = |audio: &String| Path::new(audio).file_stem().map(|stem| stem.to_string_lossy().into_owned());
    Rows { header, ..rows }.each(path, |place, cells| {
        let named = cells.into_iter().filter_map(|(column, cell)| Some((fields.get(column)?.as_str(), cell)));
        let mut clip = clip_of(named);
        if clip.id.is_empty() {
            clip.id =
                clip.audio.as_ref().and_then(stem).unwrap_or_else(|| format!("row-{}", place.line.unwrap_or(0)));
        }
        clips.push((clip, place));
    })?;
    Ok(MappedTable { clips, unused })
}

/// A clip from its fields as text.
fn clip_of<'c>(cells: impl IntoIterator<Item = (&'c str, &'c str)>) -> Clip {
    let mut clip = Clip::default();
    for (name, cell) in cells {
        let value = cell.to_owned();
        match name {
            "id" => clip.id = value,
            "audio" => clip.audio = Some(value),
            "text" => clip.text = value,
            "lang" => clip.lang = Some(value),
            "speaker" => clip.speaker = Some(value),
            "terms" => clip.terms = cell.split(';').map(|term| term.trim().to_owned()).collect(),
            tag => drop(clip.tags.insert(tag.trim_start_matches(TAG).to_owned(), value)),
        }
    }
    clip
}

pub(crate) fn read_labels(path: &Path, delimiter: u8, reading: &mut Reading) -> Result<(), Problems> {
    Rows::open(path, delimiter, &LABEL_COLUMNS, true)?.each(path, |place, cells| {
        reading.add(clip_of(cells), place);
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
        reading.add(HeardRecord::new(id, Heard { text, took_ms, ..Heard::default() }), place);
    })
}
