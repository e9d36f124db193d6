//! What went wrong, on a page: kinds, confusions, terms, and whether engines are as sure as they should be.

use crate::output::percent;
use fonex_core::accuracy::{MistakeKind, Score, TermCounts, TermReport};
use fonex_report::charts::{Guide, PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_report::{Cell, ChartFigure, Table};

/// Rows of the longest tables.
const SHOWN: usize = 12;

/// The scores of a page with the names of their variants.
pub type Named<'s> = (String, &'s Score);

/// The tables that have something to say.
pub fn depth_tables(scores: &[Named<'_>]) -> Vec<Table> {
    let mut tables = vec![kinds(scores)];
    tables.extend(scores.iter().filter_map(confused));
    tables.push(terms(scores));
    tables.retain(|table| !table.is_empty());
    tables
}

fn columns<'c>(first: &'c str, scores: &'c [Named<'_>]) -> impl Iterator<Item = (&'c str, u8)> {
    [(first, 0)].into_iter().chain(scores.iter().map(|(name, _)| (name.as_str(), 0)))
}

/// A row a kind, a column a variant.
fn kinds(scores: &[Named<'_>]) -> Table {
    let words = |score: &Score, kind: MistakeKind| {
        let all = score.mistakes.as_ref().map_or(&[][..], |mistakes| mistakes.kinds.as_slice());
        all.iter().find(|count| count.kind == kind).map_or(0, |count| count.words)
    };
    let mut kinds: Vec<(u64, MistakeKind)> = Vec::new();
    for count in scores.iter().filter_map(|(_, score)| score.mistakes.as_ref()).flat_map(|m| &m.kinds) {
        match kinds.iter_mut().find(|(_, kind)| *kind == count.kind) {
            Some((sum, _)) => *sum += count.words,
            None => kinds.push((count.words, count.kind)),
        }
    }
    kinds.sort_by_key(|(sum, kind)| (std::cmp::Reverse(*sum), *kind));
    let mut table =
        Table::new(columns("kind of mistake", scores)).titled("What went wrong").noted("Wrong words by kind.");
    for (_, kind) in kinds {
        let cells = scores.iter().map(|(_, score)| Cell::Count(words(score, kind)));
        table.row([Cell::text(kind.as_str())].into_iter().chain(cells));
    }
    table
}

fn confused((name, score): &Named<'_>) -> Option<Table> {
    let pairs = &score.mistakes.as_ref()?.confused;
    let mut table = Table::new([("said", 0), ("heard", 0), ("times", 0), ("kind", 0), ("such as", 0)])
        .titled(format!("Taken for another by {name}"))
        .noted("The most frequent pairs.");
    for pair in pairs.iter().take(SHOWN) {
        let words = [&pair.said, &pair.heard].map(|word| Cell::text(word.as_str()));
        let rest = [Cell::Count(pair.times), Cell::text(pair.kind.as_str()), Cell::text(pair.clips.join(", "))];
        table.row(words.into_iter().chain(rest));
    }
    Some(table)
}

/// A row a must-hear term, a column a variant.
fn terms(scores: &[Named<'_>]) -> Table {
    let reports = || scores.iter().map(|(_, score)| score.terms.as_ref());
    let mut names: Vec<&str> = Vec::new();
    for term in reports().flatten().flat_map(|report| &report.terms) {
        if !names.contains(&term.term.as_str()) {
            names.push(&term.term);
        }
    }
    let heard = |counts: Option<TermCounts>| match counts {
        Some(counts) if counts.found + counts.missed + counts.invented > 0 => {
            let invented =
                if counts.invented > 0 { format!(", {} invented", counts.invented) } else { String::new() };
            Cell::text(format!("{} of {}{invented}", counts.found, counts.found + counts.missed))
        }
        _ => Cell::Empty,
    };
    let mut table = Table::new(columns("term", scores))
        .titled("Must-hear terms")
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

/// How often words of each confidence are right; none where no engine tells confidences.
pub fn reliability_chart(scores: &[Named<'_>]) -> Option<ChartFigure> {
    let series: Vec<PlaneSeries> = scores
        .iter()
        .filter_map(|(name, score)| {
            let report = score.confidence.as_ref()?;
            let bins = report.bins.iter().filter(|bin| bin.words > 0);
            Some(PlaneSeries {
                name: format!("{name} ({})", percent(Some(report.calibration_error))),
                points: bins.map(|bin| (bin.confidence, bin.right)).collect(),
                form: PlaneForm::Line,
                ..PlaneSeries::default()
            })
        })
        .collect();
    if series.is_empty() {
        return None;
    }
    let axis = |label: &str| PlaneAxis {
        label: label.to_owned(),
        percent: true,
        from_zero: true,
        to: Some(1.0),
        log: false,
    };
    let chart = PlaneChart {
        equal_units: false,
        title: "Calibration of confidences".into(),
        x: axis("confidence told"),
        y: axis("words that were right"),
        series,
        guides: vec![Guide { from: (0.0, 0.0), to: (1.0, 1.0), words: "perfect calibration".into() }],
        note: "in brackets the expected calibration error; below the dashed line an engine is overconfident".into(),
    };
    let caption = "Confidence of words against how often they were right.".into();
    Some(ChartFigure { svg: plane_svg(&chart), caption })
}
