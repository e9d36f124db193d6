//! One table of typed cells, with one renderer each for terminals, Markdown, CSV and HTML.

mod files;
mod html;
mod terminal;

use fonex_core::measures::Unit;
use fonex_core::stats::Interval;

use crate::figures;

pub use html::HtmlTable;
pub use terminal::folded_under;

/// What a cell holds. Its text is made by the renderer, so that files get plain numbers.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell {
    /// Nothing, shown as a dash.
    Empty,
    /// Words.
    Text(String),
    /// Words of which none is broken, such as addresses.
    Address(String),
    /// A thing that has an id for files and a name for readers.
    Named(&'static str, &'static str),
    /// Words that need attention.
    Warning(String),
    /// A count.
    Count(u64),
    /// A count that needs attention where it is not zero.
    Alarm(u64),
    /// A number with this many places; the column's name gives its unit.
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

    /// A number with this many places, or nothing.
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
            Self::Text(words) | Self::Address(words) | Self::Warning(words) => words.clone(),
            Self::Named(_, name) => (*name).to_owned(),
            Self::Count(count) | Self::Alarm(count) => count.to_string(),
            Self::Number(value, places) => figures::minus(format!("{value:.places$}")),
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
            Self::Text(words) | Self::Address(words) | Self::Warning(words) | Self::Verdict(_, words) => {
                [words.replace('−', "-"), String::new(), String::new()]
            }
            Self::Named(id, _) => [(*id).to_owned(), String::new(), String::new()],
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
        matches!(self, Self::Text(_) | Self::Address(_) | Self::Named(..) | Self::Warning(_) | Self::Verdict(..))
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

    /// Leaves out columns by name.
    #[must_use]
    pub fn without(self, names: &[&str]) -> Self {
        let kept: Vec<usize> =
            (0..self.columns.len()).filter(|at| !names.contains(&self.columns[*at].name.as_str())).collect();
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
}

#[cfg(test)]
mod tests {
    use unicode_width::UnicodeWidthStr;

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
