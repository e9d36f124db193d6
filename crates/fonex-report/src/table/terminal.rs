//! Tables for terminals: folded, thinned or stood upright until they fit.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, LineStyle, Width};
use unicode_width::UnicodeWidthStr;

use super::Table;
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

    fn laid(&self) -> Laid {
        let cells: Vec<Vec<String>> =
            self.rows.iter().map(|row| row.iter().map(|cell| one_line(&cell.read())).collect()).collect();
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
            if row[column].is_words() {
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
        let mut table = comfy_table::Table::new();
        let style = NOTHING.header_separator(LineStyle::none().fill('─').junction('─'));
        table.load_style(style).set_content_arrangement(ContentArrangement::Dynamic).set_width(u16::MAX);
        table.set_header(kept.iter().map(|at| self.columns[*at].name.as_str()));
        for row in &laid.cells {
            table.add_row(kept.iter().map(|at| row[*at].as_str()));
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
