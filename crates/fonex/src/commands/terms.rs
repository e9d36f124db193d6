//! Must-hear terms variant by variant.

use fonex_core::accuracy::{Score, TermCounts, TermReport};

use crate::output::{Cell, Table};

/// Title of the terms that recognisers heard of voices.
pub const PRONOUNCED: &str = "Pronunciation: names and terms as heard";
/// Rows of the longest tables.
pub const SHOWN: usize = 12;

/// The scores of a page with the names of their variants.
pub type Named<'s> = (String, &'s Score);

/// The names of a table's columns: a first one, and the variants.
pub fn columns<'c>(first: &'c str, scores: &'c [Named<'_>]) -> impl Iterator<Item = (&'c str, u8)> {
    [(first, 0)].into_iter().chain(scores.iter().map(|(name, _)| (name.as_str(), 0)))
}

/// A row a must-hear term, a column a variant.
pub fn terms_table(title: &str, scores: &[Named<'_>]) -> Table {
    let reports = || scores.iter().map(|(_, score)| score.terms.as_ref());
    let mut names: Vec<&str> = Vec::new();
    let occurs = |counts: TermCounts| counts.found + counts.missed + counts.invented > 0;
    for term in reports().flatten().flat_map(|report| &report.terms).filter(|term| occurs(term.counts)) {
        if !names.contains(&term.term.as_str()) {
            names.push(&term.term);
        }
    }
    let heard = |counts: Option<TermCounts>| match counts {
        Some(counts) if occurs(counts) => {
            let invented =
                if counts.invented > 0 { format!(", {} invented", counts.invented) } else { String::new() };
            Cell::text(format!("{} of {}{invented}", counts.found, counts.found + counts.missed))
        }
        _ => Cell::Empty,
    };
    let mut table = Table::new(columns("term", scores))
        .titled(title)
        .noted("Occurrences heard of those said; the most often missed by the first variant come first.");
    if names.is_empty() {
        return table;
    }
    table.row([Cell::text("all")].into_iter().chain(reports().map(|report| heard(report.map(|report| report.all)))));
    for name in names.into_iter().take(SHOWN) {
        let of = |report: &TermReport| report.terms.iter().find(|term| term.term == name).map(|term| term.counts);
        table.row([Cell::text(name)].into_iter().chain(reports().map(|report| heard(report.and_then(of)))));
    }
    table
}
