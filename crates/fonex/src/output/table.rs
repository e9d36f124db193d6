//! One table, printed as text, CSV or Markdown.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, LineStyle};

/// How a column is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Align {
    /// Words.
    Left,
    /// Numbers.
    Right,
}

/// Rows under named columns.
#[derive(Debug, Clone, Default)]
pub struct Table {
    columns: Vec<(String, Align)>,
    rows: Vec<Vec<String>>,
}

impl Table {
    /// A table with these columns; a name that starts with `>` sets its column to the right.
    pub fn new<S: AsRef<str>>(columns: impl IntoIterator<Item = S>) -> Self {
        let columns = columns.into_iter().map(|name| match name.as_ref().strip_prefix('>') {
            Some(name) => (name.to_owned(), Align::Right),
            None => (name.as_ref().to_owned(), Align::Left),
        });
        Self { columns: columns.collect(), rows: Vec::new() }
    }

    /// Adds a row; cells beyond the columns are a mistake of the caller.
    pub fn row<S: Into<String>>(&mut self, cells: impl IntoIterator<Item = S>) {
        let row: Vec<String> = cells.into_iter().map(|cell| one_line(&cell.into())).collect();
        debug_assert_eq!(row.len(), self.columns.len());
        self.rows.push(row);
    }

    /// The rows.
    pub fn rows(&self) -> &[Vec<String>] {
        &self.rows
    }

    /// For a terminal.
    pub fn text(&self) -> String {
        let mut table = comfy_table::Table::new();
        let style = NOTHING.header_separator(LineStyle::none().fill('─').junction('─'));
        table.load_style(style).set_header(self.columns.iter().map(|(name, _)| name.as_str()));
        for row in &self.rows {
            table.add_row(row);
        }
        for (index, (_, align)) in self.columns.iter().enumerate() {
            if let Some(column) = table.column_mut(index) {
                column.set_padding((0, 2));
                if *align == Align::Right {
                    column.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        table.lines().map(|line| line.trim_end().to_owned() + "\n").collect()
    }

    /// For spreadsheets.
    pub fn csv(&self) -> String {
        let mut writer = csv::Writer::from_writer(Vec::new());
        let header: Vec<&str> = self.columns.iter().map(|(name, _)| name.as_str()).collect();
        let records =
            std::iter::once(header).chain(self.rows.iter().map(|row| row.iter().map(String::as_str).collect()));
        for record in records {
            writer.write_record(record).expect("rows in memory have the header's length");
        }
        String::from_utf8(writer.into_inner().expect("memory can be flushed")).expect("cells are UTF-8")
    }

    /// For pull requests and wikis.
    pub fn markdown(&self) -> String {
        let line =
            |cells: &mut dyn Iterator<Item = String>| format!("| {} |\n", cells.collect::<Vec<_>>().join(" | "));
        let escaped = |cell: &str| cell.replace('\\', "\\\\").replace('|', "\\|").replace('<', "&lt;");
        let mut text = line(&mut self.columns.iter().map(|(name, _)| escaped(name)));
        text += &line(&mut self.columns.iter().map(|(_, align)| match align {
            Align::Left => "---".to_owned(),
            Align::Right => "---:".to_owned(),
        }));
        for row in &self.rows {
            text += &line(&mut row.iter().map(|cell| escaped(cell)));
        }
        text
    }
}

/// Line breaks and control characters, which an engine may have written, would break the table or the terminal.
fn one_line(cell: &str) -> String {
    cell.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}
