//! Tables for files: Markdown and CSV.

use super::Table;
use crate::readable::one_line;

impl Table {
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
