//! Tables for the report's page.

use serde::Serialize;

use super::{Cell, Table};

impl Table {
    /// For the page's template, which escapes every text.
    #[must_use]
    pub fn html(&self) -> HtmlTable {
        let tone = |cell: &Cell| match cell {
            Cell::Text(words) | Cell::Address(words) if words.chars().count() > 24 => "wrap",
            Cell::Empty | Cell::Text(_) | Cell::Address(_) | Cell::Named(..) => "plain",
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
            clips: None,
        });
        let rows = self.rows.iter().map(|row| {
            row.iter()
                .enumerate()
                .map(|(at, cell)| HtmlCell {
                    text: cell.read(),
                    clips: None,
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
    /// A fragment of the page that shows the clips of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    clips: Option<String>,
}

impl HtmlTable {
    /// Links the cells of a column to clips of the page.
    #[must_use]
    pub fn linked(mut self, column: &str, clips: impl Fn(&str) -> Option<String>) -> Self {
        if let Some(at) = self.header.iter().position(|cell| cell.text == column) {
            for cell in self.rows.iter_mut().filter_map(|row| row.get_mut(at)) {
                cell.clips = clips(&cell.text);
            }
        }
        self
    }
}
