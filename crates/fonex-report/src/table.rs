//! One table of typed cells, with one renderer each for terminals, Markdown, CSV and HTML.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, LineStyle, Width};
use fonex_core::measures::Unit;
use fonex_core::stats::Interval;
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

use crate::figures;

/// What a cell holds. Its text is made by the renderer, so that files get plain numbers.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell {
    /// Nothing, told as a dash.
    Empty,
    /// Words.
    Text(String),
    /// Words that need attention.
    Warning(String),
    /// A count.
    Count(u64),
    /// A count that needs attention where it is not zero.
    Alarm(u64),
    /// A number with so many places; the column's name gives its unit.
    Number(f64, usize),
    /// A figure, in its base unit.
    Figure(Unit, f64),
    /// A figure with its interval; an interval that is withheld is none.
    Estimate(Unit, f64, Option<Interval>),
    /// A difference with its interval, always signed.
    Difference(Unit, f64, Option<Interval>),
    /// What is said, with a sign for readers; files get the bare word.
    Verdict(&'static str, String),
}

impl Cell {
    /// Words.
    pub fn text(words: impl Into<String>) -> Self {
        Self::Text(words.into())
    }

    /// A number with so many places, or nothing.
    #[must_use]
    pub fn number(value: Option<f64>, places: usize) -> Self {
        value.map_or(Self::Empty, |value| Self::Number(value, places))
    }

    /// A figure, or nothing.
    #[must_use]
    pub fn figure(unit: Unit, value: Option<f64>) -> Self {
        value.map_or(Self::Empty, |value| Self::Figure(unit, value))
    }

    /// For people.
    fn read(&self) -> String {
        match self {
            Self::Empty => "–".to_owned(),
            Self::Text(words) | Self::Warning(words) => words.clone(),
            Self::Count(count) | Self::Alarm(count) => count.to_string(),
            Self::Number(value, places) => format!("{value:.places$}").replace('-', "−"),
            Self::Figure(unit, value) => figures::figure(*unit, Some(*value)),
            Self::Estimate(unit, value, interval) => figures::figure_with_interval(*unit, Some(*value), *interval),
            Self::Difference(unit, value, interval) => figures::difference_with_interval(*unit, *value, *interval),
            Self::Verdict("", word) => word.clone(),
            Self::Verdict(sign, word) => format!("{sign} {word}"),
        }
    }

    /// For programs: plain numbers in the base unit, with the bounds of the interval.
    fn plain(&self) -> [String; 3] {
        let number = |value: f64| if value.is_finite() { value.to_string() } else { String::new() };
        let bounds = |i: &Option<Interval>| i.map_or_else(Default::default, |i| [number(i.low), number(i.high)]);
        match self {
            Self::Empty => Default::default(),
            Self::Text(words) | Self::Warning(words) | Self::Verdict(_, words) => {
                [words.replace('−', "-"), String::new(), String::new()]
            }
            Self::Count(count) | Self::Alarm(count) => [count.to_string(), String::new(), String::new()],
            Self::Figure(_, value) | Self::Number(value, _) => [number(*value), String::new(), String::new()],
            Self::Estimate(_, value, interval) | Self::Difference(_, value, interval) => {
                let [low, high] = bounds(interval);
                [number(*value), low, high]
            }
        }
    }

    const fn has_interval(&self) -> bool {
        matches!(self, Self::Estimate(..) | Self::Difference(..))
    }

    const fn is_words(&self) -> bool {
        matches!(self, Self::Text(_) | Self::Warning(_) | Self::Verdict(..))
    }
}

/// A column.
#[derive(Debug, Clone, PartialEq)]
struct Column {
    name: String,
    /// Columns of the highest number go first where there is no room.
    rank: u8,
}

/// Rows under named columns, with a title and a note.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Table {
    /// Its heading; empty for none.
    pub title: String,
    /// What to know when reading it; empty for nothing.
    pub note: String,
    columns: Vec<Column>,
    rows: Vec<Vec<Cell>>,
}

/// Columns beside each other are parted by so many spaces.
const GAP: usize = 2;
/// A column of words is folded down to this.
const LEAST_WORDS: usize = 12;
/// A single word is folded where it is longer.
const MOST_WORD: usize = 26;

impl Table {
    /// A table with these columns. Those ranked higher are left out first where a terminal has no room; rank 0 always stays.
    #[must_use]
    pub fn new<'n>(columns: impl IntoIterator<Item = (&'n str, u8)>) -> Self {
        let columns = columns.into_iter().map(|(name, rank)| Column { name: name.to_owned(), rank }).collect();
        Self { columns, ..Self::default() }
    }

    /// The same with a title.
    #[must_use]
    pub fn titled(self, title: impl Into<String>) -> Self {
        Self { title: title.into(), ..self }
    }

    /// The same with a note.
    #[must_use]
    pub fn noted(self, note: impl Into<String>) -> Self {
        Self { note: note.into(), ..self }
    }

    /// Adds a row; it has as many cells as there are columns.
    pub fn row(&mut self, cells: impl IntoIterator<Item = Cell>) {
        let row: Vec<Cell> = cells.into_iter().collect();
        debug_assert_eq!(row.len(), self.columns.len(), "{row:?}");
        self.rows.push(row);
    }

    /// Whether it has no row.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// The same without columns in which every cell is empty.
    #[must_use]
    pub fn without_empty_columns(self) -> Self {
        let kept: Vec<usize> = (0..self.columns.len())
            .filter(|at| {
                self.rows.iter().any(|row| row[*at] != Cell::Empty && row[*at] != Cell::Text(String::new()))
                    || self.rows.is_empty()
            })
            .collect();
        self.only(&kept)
    }

    fn only(self, kept: &[usize]) -> Self {
        let columns = kept.iter().map(|at| self.columns[*at].clone()).collect();
        let rows = self.rows.iter().map(|row| kept.iter().map(|at| row[*at].clone()).collect()).collect();
        Self { columns, rows, ..self }
    }

    /// Whether a column holds numbers, which are set flush right.
    fn is_number(&self, column: usize) -> bool {
        self.rows.iter().all(|row| !row[column].is_words()) && !self.rows.is_empty()
    }

    /// For a terminal of so many columns. Words are folded; then the least important columns are left out, and named below; what
    /// still has no room stands upright, a row a block.
    #[must_use]
    pub fn terminal(&self, width: usize) -> String {
        let mut text = if self.title.is_empty() { String::new() } else { format!("{}\n", self.title) };
        let mut kept: Vec<usize> = (0..self.columns.len()).collect();
        let mut left_out: Vec<&str> = Vec::new();
        while self.least_width(&kept) > width {
            let most = kept.iter().map(|at| self.columns[*at].rank).max().unwrap_or(0);
            if most == 0 {
                break;
            }
            // Of equals the last one goes.
            let place = kept.iter().rposition(|at| self.columns[*at].rank == most).unwrap_or(0);
            left_out.insert(0, &self.columns[kept.remove(place)].name);
        }
        if self.least_width(&kept) > width {
            text += &self.upright(width);
            left_out.clear();
        } else {
            text += &self.side_by_side(&kept, width);
        }
        if !left_out.is_empty() {
            let names = left_out.join(", ");
            text += &folded(&format!("(no room for: {names}; --format csv has all)"), width);
        }
        if !self.note.is_empty() {
            text += &folded(&self.note, width);
        }
        text
    }

    /// The width of each column as it is, and as narrow as it can be folded.
    fn widths(&self, column: usize) -> [usize; 2] {
        let cells = || self.rows.iter().map(|row| &row[column]);
        let longest = cells().map(|cell| one_line(&cell.read()).width()).max().unwrap_or(0);
        let name = &self.columns[column].name;
        let longest_word = |text: &str| text.split(' ').map(str::width).max().unwrap_or(0);
        let word = longest_word(name);
        let words = cells().filter(|cell| cell.is_words()).map(|cell| longest_word(&cell.read())).max();
        let numbers = cells().filter(|cell| !cell.is_words()).map(|cell| one_line(&cell.read()).width()).max();
        // Words longer than this are cut.
        let least =
            words.map_or(0, |words| words.min(MOST_WORD).max(longest.min(LEAST_WORDS))).max(numbers.unwrap_or(0));
        [longest.max(name.width()), least.max(word)]
    }

    fn least_width(&self, kept: &[usize]) -> usize {
        kept.iter().map(|at| self.widths(*at)[1] + GAP).sum::<usize>().saturating_sub(GAP)
    }

    fn side_by_side(&self, kept: &[usize], width: usize) -> String {
        let mut widths: Vec<[usize; 2]> = kept.iter().map(|at| self.widths(*at)).collect();
        // The widest column that can be folded gives way, a little at a time.
        while widths.iter().map(|w| w[0] + GAP).sum::<usize>() > width + GAP {
            let Some(widest) = widths.iter_mut().filter(|w| w[0] > w[1]).max_by_key(|w| w[0]) else { break };
            widest[0] -= 1;
        }
        let mut table = comfy_table::Table::new();
        let style = NOTHING.header_separator(LineStyle::none().fill('─').junction('─'));
        table.load_style(style).set_content_arrangement(ContentArrangement::Dynamic).set_width(u16::MAX);
        table.set_header(kept.iter().map(|at| self.columns[*at].name.as_str()));
        for row in &self.rows {
            table.add_row(kept.iter().map(|at| one_line(&row[*at].read())));
        }
        for (index, (at, [own, _])) in kept.iter().zip(&widths).enumerate() {
            if let Some(column) = table.column_mut(index) {
                // One of the spaces is the separator of the style.
                let gap = if index + 1 < kept.len() { GAP as u16 - 1 } else { 0 };
                column.set_padding((0, gap));
                column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(*own as u16 + gap)));
                if self.is_number(*at) {
                    column.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        table.lines().map(|line| line.trim_end().to_owned() + "\n").collect()
    }

    /// A row a block, its columns one below the other.
    fn upright(&self, width: usize) -> String {
        let name_width = self.columns.iter().map(|column| column.name.width()).max().unwrap_or(0);
        let mut text = String::new();
        for (at, row) in self.rows.iter().enumerate() {
            if at > 0 {
                text.push('\n');
            }
            for (column, cell) in self.columns.iter().zip(row) {
                let pad = " ".repeat(name_width - column.name.width() + GAP);
                let line = format!("{}{pad}{}", column.name, one_line(&cell.read()));
                text += &folded_under(&line, width.max(name_width + 20), name_width + GAP);
            }
        }
        text
    }

    /// For pull requests and wikis.
    #[must_use]
    pub fn markdown(&self) -> String {
        let line = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
        let escaped = |cell: &str| one_line(cell).replace('\\', "\\\\").replace('|', "\\|").replace('<', "&lt;");
        let mut text = line(self.columns.iter().map(|column| escaped(&column.name)).collect());
        let bar = |at: usize| if self.is_number(at) { "---:" } else { "---" }.to_owned();
        text += &line((0..self.columns.len()).map(bar).collect());
        for row in &self.rows {
            text += &line(row.iter().map(|cell| escaped(&cell.read())).collect());
        }
        text
    }

    /// For spreadsheets and programs: names in lower case with underscores, plain numbers in the base unit (shares from 0 to 1),
    /// and two columns more, `_low` and `_high`, where figures have intervals.
    #[must_use]
    pub fn csv(&self) -> String {
        let with_bounds: Vec<bool> =
            (0..self.columns.len()).map(|at| self.rows.iter().any(|row| row[at].has_interval())).collect();
        let mut writer = csv::Writer::from_writer(Vec::new());
        let mut header = Vec::new();
        for (column, bounds) in self.columns.iter().zip(&with_bounds) {
            let name = file_name(&column.name);
            header.push(name.clone());
            if *bounds {
                header.extend([format!("{name}_low"), format!("{name}_high")]);
            }
        }
        let mut records = vec![header];
        for row in &self.rows {
            let mut record = Vec::new();
            for (cell, bounds) in row.iter().zip(&with_bounds) {
                let [value, low, high] = cell.plain();
                record.push(one_line(&value));
                if *bounds {
                    record.extend([low, high]);
                }
            }
            records.push(record);
        }
        for record in records {
            writer.write_record(record).expect("rows in memory have the header's length");
        }
        String::from_utf8(writer.into_inner().expect("memory can be flushed")).expect("cells are UTF-8")
    }

    /// For the page's template, which escapes every text.
    #[must_use]
    pub fn html(&self) -> HtmlTable {
        let tone = |cell: &Cell| match cell {
            Cell::Text(words) if words.chars().count() > 24 => "wrap",
            Cell::Empty | Cell::Text(_) => "plain",
            Cell::Warning(_) => "warn",
            Cell::Verdict(sign, _) if *sign == "▲" => "worse",
            Cell::Verdict(..) => "wrap",
            Cell::Alarm(count) if *count > 0 => "alarm",
            Cell::Count(_)
            | Cell::Alarm(_)
            | Cell::Number(..)
            | Cell::Figure(..)
            | Cell::Estimate(..)
            | Cell::Difference(..) => "number",
        };
        let header = self.columns.iter().enumerate().map(|(at, column)| HtmlCell {
            text: column.name.clone(),
            tone: if self.is_number(at) { "number" } else { "plain" },
        });
        let rows = self.rows.iter().map(|row| {
            row.iter()
                .enumerate()
                .map(|(at, cell)| HtmlCell {
                    text: cell.read(),
                    tone: if *cell == Cell::Empty && self.is_number(at) { "number" } else { tone(cell) },
                })
                .collect()
        });
        HtmlTable {
            title: self.title.clone(),
            note: self.note.clone(),
            header: header.collect(),
            rows: rows.collect(),
        }
    }
}

/// A table as the page's template takes it.
#[derive(Debug, Clone, Default, Serialize)]
pub struct HtmlTable {
    title: String,
    note: String,
    header: Vec<HtmlCell>,
    rows: Vec<Vec<HtmlCell>>,
}

#[derive(Debug, Clone, Serialize)]
struct HtmlCell {
    text: String,
    tone: &'static str,
}

/// Line breaks and control characters, which an engine may have written, would break the table or the terminal.
fn one_line(cell: &str) -> String {
    cell.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// Words in lines of at most so many columns.
fn folded(text: &str, width: usize) -> String {
    folded_under(text, width, 0)
}

/// The same with all lines but the first moved in.
fn folded_under(text: &str, width: usize, indent: usize) -> String {
    let mut lines = String::new();
    let mut used = 0;
    for word in text.split(' ') {
        if used > 0 && used + 1 + word.width() > width {
            lines.push('\n');
            lines += &" ".repeat(indent);
            used = indent;
        } else if used > 0 || lines.ends_with(' ') {
            lines.push(' ');
            used += 1;
        }
        lines += word;
        used += word.width();
    }
    lines.push('\n');
    lines
}

/// `95th |start|, p95` as `95th_start_p95`.
fn file_name(name: &str) -> String {
    let mut file = String::new();
    for c in name.chars() {
        if c.is_ascii_alphanumeric() {
            file.push(c.to_ascii_lowercase());
        } else if c == '/' {
            file += "_per_";
        } else if !file.is_empty() && !file.ends_with('_') {
            file.push('_');
        }
    }
    file.trim_end_matches('_').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let mut table = Table::new([("variant", 0), ("WER", 0), ("p95 of |start|", 2), ("what it would take", 1)]);
        let interval = Some(Interval { low: 0.1, high: 0.15 });
        table.row([
            Cell::text("marl/river"),
            Cell::Estimate(Unit::Share, 0.125, interval),
            Cell::Figure(Unit::Ms, -12.5),
            Cell::text("about 120 more clips like these would tell"),
        ]);
        table.row([Cell::text("tern"), Cell::Empty, Cell::Empty, Cell::Verdict("▲", "worse".into())]);
        table
    }

    #[test]
    fn files_get_plain_numbers() {
        let csv = table().csv();
        let lines: Vec<&str> = csv.lines().collect();
        assert_eq!(lines[0], "variant,wer,wer_low,wer_high,p95_of_start,what_it_would_take");
        assert_eq!(lines[1], "marl/river,0.125,0.1,0.15,-12.5,about 120 more clips like these would tell");
        assert_eq!(lines[2], "tern,,,,,worse");
        assert!(csv.is_ascii());
    }

    #[test]
    fn a_terminal_table_fits_its_width() {
        for width in [40, 48, 60, 80, 100, 160] {
            let text = table().terminal(width);
            let widest = text.lines().map(UnicodeWidthStr::width).max().unwrap();
            assert!(widest <= width, "{width}: {widest}\n{text}");
            assert!(text.contains("12.5 %") && text.contains("marl/river"), "{text}");
        }
        assert!(table().terminal(50).contains("no room for: p95 of |start|"), "{}", table().terminal(50));
        assert!(!table().terminal(100).contains("no room"));
        assert_eq!(table().terminal(160).lines().count(), 4);
    }

    #[test]
    fn markdown_is_escaped_and_aligned() {
        let markdown = table().markdown();
        assert!(markdown.contains("p95 of \\|start\\|") && markdown.contains("| ---: |"), "{markdown}");
    }
}
