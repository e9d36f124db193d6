//! What went wrong, on a page: kinds, confusions, terms, and whether engines are as sure as they should be.

use fonex_core::accuracy::{MistakeKind, Score};
use fonex_report::charts::{Guide, PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_report::{ChartFigure, DataTable, TableCell};

use super::tables::{number, plain};
use crate::output::percent;

/// Rows of the longest tables.
const SHOWN: usize = 12;

/// The scores of a page with the names of their variants.
pub type Named<'s> = (String, &'s Score);

/// The tables that have something to say.
pub fn depth_tables(scores: &[Named<'_>]) -> Vec<DataTable> {
    let mut tables = vec![kinds(scores)];
    tables.extend(scores.iter().filter_map(confused));
    tables.push(terms(scores));
    tables.push(marks(scores));
    tables.retain(|table| !table.rows.is_empty());
    tables
}

fn header<'h>(first: &[&'h str], scores: &'h [Named<'_>]) -> Vec<String> {
    first.iter().copied().chain(scores.iter().map(|(name, _)| name.as_str())).map(str::to_owned).collect()
}

/// A row a kind, a column a variant.
fn kinds(scores: &[Named<'_>]) -> DataTable {
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
    let cell = |score: &Score, kind: MistakeKind| match (words(score, kind), score.words.reference) {
        (0, _) => number("–".to_owned()),
        (words, said) if said > 0 => number(format!("{words} ({})", percent(Some(words as f64 / said as f64)))),
        (words, _) => number(words.to_string()),
    };
    let row = |kind: MistakeKind| {
        std::iter::once(plain(kind.as_str().to_owned()))
            .chain(scores.iter().map(|(_, score)| cell(score, kind)))
            .collect()
    };
    DataTable {
        title: "What went wrong".into(),
        note: "Wrong words by kind, and as a share of the words said.".into(),
        header: header(&["Kind of mistake"], scores),
        rows: kinds.into_iter().map(|(_, kind)| row(kind)).collect(),
    }
}

fn confused((name, score): &Named<'_>) -> Option<DataTable> {
    let pairs = &score.mistakes.as_ref()?.confused;
    let rows = pairs.iter().take(SHOWN).map(|pair| {
        let words = [&pair.said, &pair.heard].map(|word| plain(word.clone()));
        let rest =
            [number(pair.times.to_string()), plain(pair.kind.as_str().to_owned()), plain(pair.clips.join(", "))];
        words.into_iter().chain(rest).collect()
    });
    Some(DataTable {
        title: format!("Taken for another by {name}"),
        note: "The most frequent pairs.".into(),
        header: ["Said", "Heard", "Times", "Kind", "Such as"].map(str::to_owned).to_vec(),
        rows: rows.collect(),
    })
}

/// A row a must-hear term, a column a variant.
fn terms(scores: &[Named<'_>]) -> DataTable {
    let reports = || scores.iter().map(|(_, score)| score.terms.as_ref());
    let mut names: Vec<&str> = Vec::new();
    for term in reports().flatten().flat_map(|report| &report.terms) {
        if !names.contains(&term.term.as_str()) {
            names.push(&term.term);
        }
    }
    let heard = |counts: Option<fonex_core::accuracy::TermCounts>| match counts {
        Some(counts) if counts.found + counts.missed + counts.invented > 0 => {
            let invented =
                if counts.invented > 0 { format!(", {} invented", counts.invented) } else { String::new() };
            number(format!("{} of {}{invented}", counts.found, counts.found + counts.missed))
        }
        _ => number("–".to_owned()),
    };
    let row = |name: &str| {
        let of = |report: &fonex_core::accuracy::TermReport| {
            report.terms.iter().find(|term| term.term == name).map(|term| term.counts)
        };
        std::iter::once(plain(name.to_owned())).chain(reports().map(|report| heard(report.and_then(of)))).collect()
    };
    let all = std::iter::once(plain("all".to_owned())).chain(reports().map(|report| heard(report.map(|r| r.all))));
    let mut rows: Vec<Vec<TableCell>> = Vec::new();
    if !names.is_empty() {
        rows.push(all.collect());
        rows.extend(names.into_iter().take(SHOWN).map(row));
    }
    DataTable {
        title: "Must-hear terms".into(),
        note: "Occurrences heard of those said; the most often missed by the first variant come first.".into(),
        header: header(&["Term"], scores),
        rows,
    }
}

/// Punctuation and capitals, a row each.
fn marks(scores: &[Named<'_>]) -> DataTable {
    let f1 = |counts: Option<fonex_core::accuracy::TermCounts>| number(percent(counts.and_then(|counts| counts.f1)));
    let written = || scores.iter().map(|(_, score)| score.marks.as_ref());
    let mut rows: Vec<Vec<TableCell>> = Vec::new();
    if written().any(|marks| marks.is_some()) {
        let punctuation = written().map(|marks| f1(marks.and_then(|marks| marks.punctuation)));
        rows.push(std::iter::once(plain("punctuation".to_owned())).chain(punctuation).collect());
        let capitals = written().map(|marks| f1(marks.and_then(|marks| marks.capitals)));
        rows.push(std::iter::once(plain("capitals".to_owned())).chain(capitals).collect());
    }
    DataTable {
        title: "Punctuation and capitals".into(),
        note: "F1 of the signs behind, and the capitals of, the words that both sides have.".into(),
        header: header(&["Beside the words"], scores),
        rows,
    }
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
                labels: Vec::new(),
                form: PlaneForm::Line,
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
        title: "Is it as sure as it should be?".into(),
        x: axis("confidence told"),
        y: axis("words that were right"),
        series,
        guides: vec![Guide { from: (0.0, 0.0), to: (1.0, 1.0), words: "as sure as right".into() }],
        note: "in brackets the expected calibration error; below the dashed line an engine is too sure".into(),
    };
    let caption = "Confidence of words against how often they were right.".into();
    Some(ChartFigure { svg: plane_svg(&chart), caption })
}
