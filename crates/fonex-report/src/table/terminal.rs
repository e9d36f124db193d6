//! Tables for terminals: folded, thinned or stood upright until they fit.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, LineStyle, Width};
use unicode_width::UnicodeWidthStr;

use super::{Cell, Table};
use crate::charts::shortened;
use crate::readable::one_line;

/// Columns beside each other are parted by this many spaces.
const GAP: usize = 2;
/// A column of words is folded down to this, and one of sentences to the second.
const LEAST_WORDS: usize = 12;
const LEAST_SENTENCE: usize = 30;
/// What is longer is a sentence.
const SENTENCE: usize = 48;
/// A single word is folded where it is longer.
const MOST_WORD: usize = 26;
/// Letters of a cell in a terminal: folding takes time that grows with the square of a word's length. CSV and JSON have all.
const MOST_LETTERS: usize = 1_000;

/// The cells of a table as they are read, row by row, and how wide each column is: as it is, and as narrow as it can be folded.
struct Laid {
    cells: Vec<Vec<String>>,
    widths: Vec<[usize; 2]>,
}

impl Laid {
    fn least_width(&self, kept: &[usize]) -> usize {
        kept.iter().map(|at| self.widths[*at][1] + GAP).sum::<usize>().saturating_sub(GAP)
    }
}

/// A column that is shown.
struct Column {
    /// Its place in the row.
    at: usize,
    width: usize,
    is_number: bool,
}

/// Appends a row of which every cell has room: what most rows of a long table are, and quicker than looking where to fold them.
fn push_row(text: &mut String, row: &[String], columns: &[Column]) {
    let start = text.len();
    for column in columns {
        let cell = row[column.at].as_str();
        let room = column.width - cell.width();
        let (before, after) = if column.is_number { (room, 0) } else { (0, room) };
        text.extend(std::iter::repeat_n(' ', before));
        text.push_str(cell);
        text.extend(std::iter::repeat_n(' ', after + GAP));
    }
    text.truncate(start + text[start..].trim_end().len());
    text.push('\n');
}

fn in_style() -> comfy_table::Table {
    let mut table = comfy_table::Table::new();
    table.load_style(NOTHING.header_separator(LineStyle::none().fill('─').junction('─')));
    table
}

fn of_rows(rows: &[Vec<String>], columns: &[Column]) -> comfy_table::Table {
    let mut table = in_style();
    for row in rows {
        table.add_row(columns.iter().map(|column| row[column.at].as_str()));
    }
    table
}

/// The lines of a table, folded into these columns.
fn folded_rows(mut table: comfy_table::Table, columns: &[Column]) -> String {
    table.set_content_arrangement(ContentArrangement::Dynamic).set_width(u16::MAX);
    for (index, Column { width, is_number, .. }) in columns.iter().enumerate() {
        if let Some(column) = table.column_mut(index) {
            // One of the spaces is the separator of the style.
            let gap = if index + 1 < columns.len() { GAP as u16 - 1 } else { 0 };
            column.set_padding((0, gap));
            column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(*width as u16 + gap)));
            if *is_number {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    table.lines().map(|line| line.trim_end().to_owned() + "\n").collect()
}

impl Table {
    /// For a terminal of this many columns. Words are folded; then the least important columns are left out, and named below; what
    /// still has no room stands upright, a row a block.
    #[must_use]
    pub fn terminal(&self, width: usize) -> String {
        let mut text = if self.title.is_empty() { String::new() } else { format!("{}\n", self.title) };
        let mut kept: Vec<usize> = (0..self.columns.len()).collect();
        let mut left_out: Vec<&str> = Vec::new();
        let laid = self.laid();
        while laid.least_width(&kept) > width {
            let most = kept.iter().map(|at| self.columns[*at].rank).max().unwrap_or(0);
            if most == 0 {
                break;
            }
            // Of equals the last one goes.
            let place = kept.iter().rposition(|at| self.columns[*at].rank == most).unwrap_or(0);
            left_out.insert(0, &self.columns[kept.remove(place)].name);
        }
        if laid.least_width(&kept) > width {
            text += &self.upright(&laid, width);
            left_out.clear();
        } else {
            text += &self.side_by_side(&laid, &kept, width);
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

    /// The columns of a terminal that hold every column of the table, folded where they can be.
    #[must_use]
    pub fn least_width(&self) -> usize {
        self.laid().least_width(&(0..self.columns.len()).collect::<Vec<_>>())
    }

    fn laid(&self) -> Laid {
        let cells: Vec<Vec<String>> = self
            .rows
            .iter()
            .map(|row| row.iter().map(|cell| shortened(&one_line(&cell.read()), MOST_LETTERS)).collect())
            .collect();
        let widths = (0..self.columns.len()).map(|column| self.widths(&cells, column)).collect();
        Laid { cells, widths }
    }

    /// The width of a column as it is, and as narrow as it can be folded.
    fn widths(&self, cells: &[Vec<String>], column: usize) -> [usize; 2] {
        let longest_word = |text: &str| text.split(' ').map(str::width).max().unwrap_or(0);
        let (mut longest, mut words, mut numbers) = (0, None, 0);
        for (row, read) in self.rows.iter().zip(cells) {
            let width = read[column].width();
            longest = longest.max(width);
            if matches!(row[column], Cell::Address(_)) {
                numbers = numbers.max(longest_word(&read[column]));
            } else if row[column].is_words() {
                words = words.max(Some(longest_word(&read[column])));
            } else {
                numbers = numbers.max(width);
            }
        }
        let name = &self.columns[column].name;
        let folded = if longest > SENTENCE { LEAST_SENTENCE } else { longest.min(LEAST_WORDS) };
        // Words longer than this are cut.
        let least = words.map_or(0, |words| words.min(MOST_WORD).max(folded)).max(numbers);
        [longest.max(name.width()), least.max(longest_word(name))]
    }

    fn side_by_side(&self, laid: &Laid, kept: &[usize], width: usize) -> String {
        let mut widths: Vec<[usize; 2]> = kept.iter().map(|at| laid.widths[*at]).collect();
        // The widest column that can be folded gives way, a little at a time.
        while widths.iter().map(|w| w[0] + GAP).sum::<usize>() > width + GAP {
            let Some(widest) = widths.iter_mut().filter(|w| w[0] > w[1]).max_by_key(|w| w[0]) else { break };
            widest[0] -= 1;
        }
        let columns: Vec<Column> = kept
            .iter()
            .zip(&widths)
            .map(|(at, [width, _])| Column { at: *at, width: *width, is_number: self.is_number(*at) })
            .collect();
        let mut head = in_style();
        head.set_header(kept.iter().map(|at| self.columns[*at].name.as_str()));
        let mut text = folded_rows(head, &columns);
        let fits = |row: &Vec<String>| columns.iter().all(|column| row[column.at].width() <= column.width);
        for rows in laid.cells.chunk_by(|one, next| fits(one) == fits(next)) {
            if fits(&rows[0]) {
                rows.iter().for_each(|row| push_row(&mut text, row, &columns));
            } else {
                text += &folded_rows(of_rows(rows, &columns), &columns);
            }
        }
        text
    }

    /// A row a block, its columns one below the other.
    fn upright(&self, laid: &Laid, width: usize) -> String {
        let name_width = self.columns.iter().map(|column| column.name.width()).max().unwrap_or(0);
        let mut text = String::new();
        for (at, row) in laid.cells.iter().enumerate() {
            if at > 0 {
                text.push('\n');
            }
            for (column, cell) in self.columns.iter().zip(row) {
                let pad = " ".repeat(name_width - column.name.width() + GAP);
                let line = format!("{}{pad}{}", column.name, cell);
                text += &folded_under(&line, width.max(name_width + 20), name_width + GAP);
            }
        }
        text
    }
}

/// Words in lines of at most this many columns.
fn folded(text: &str, width: usize) -> String {
    folded_under(text, width, 0)
}

/// The same with all lines but the first moved in.
#[must_use]
pub fn folded_under(text: &str, width: usize, indent: usize) -> String {
    let mut lines = String::new();
    let mut used = 0;
    for word in words(text) {
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

/// Units that stay on the line of their number.
const UNITS: [&str; 16] =
    ["%", "ms", "s", "pts", "dB", "dBFS", "dBTP", "LUFS", "LU", "Hz", "st", "MiB", "KiB", "ms/min", "clips", "words"];

/// The words of a line; a number and its unit are one.
fn words(text: &str) -> Vec<&str> {
    let mut words: Vec<&str> = Vec::new();
    let mut start = 0;
    for word in text.split(' ') {
        let end = start + word.len();
        let unit = UNITS.contains(&word.trim_end_matches([',', '.', ';', ':', ')']));
        match words.last_mut().filter(|last| unit && last.ends_with(|c: char| c.is_ascii_digit())) {
            Some(last) => *last = &text[start - 1 - last.len()..end],
            None => words.push(word),
        }
        start = end + 1;
    }
    words
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_unit_stays_with_its_number() {
        assert_eq!(words("WER 8.4 %, after 139 ms in all"), ["WER", "8.4 %,", "after", "139 ms", "in", "all"]);
        assert_eq!(words("% ms  x"), ["%", "ms", "", "x"]);
        assert_eq!(folded_under("it is 100.0 % here", 12, 0), "it is\n100.0 % here\n");
    }

    proptest! {
        /// The slow twin folds what needs no folding.
        #[test]
        fn a_row_that_has_room_is_the_one_that_would_be_folded(
            row in prop::collection::vec("[a-c é字👍\u{301}-]{0,8}", 1..5),
            more in prop::collection::vec((0..4_usize, any::<bool>()), 5),
        ) {
            let columns: Vec<Column> = row
                .iter()
                .zip(&more)
                .enumerate()
                .map(|(at, (cell, (more, is_number)))| Column { at, width: (cell.width() + more).max(1), is_number: *is_number })
                .collect();
            let rows = [row.clone(), vec![String::new(); row.len()], row];
            let mut text = String::new();
            rows.iter().for_each(|row| push_row(&mut text, row, &columns));
            prop_assert_eq!(text, folded_rows(of_rows(&rows, &columns), &columns));
        }
    }
}
