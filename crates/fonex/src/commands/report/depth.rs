//! What went wrong, on a page: kinds, confusions, terms, and whether engines are as sure as they should be.

use crate::commands::terms::{Named, SHOWN, columns, terms_table};
use crate::output::percent;
use fonex_core::accuracy::{MistakeKind, Score};
use fonex_report::charts::{Guide, PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_report::{Cell, ChartFigure, Table};

/// The tables that have something to say.
pub fn depth_tables(scores: &[Named<'_>]) -> Vec<Table> {
    let mut tables = vec![kinds(scores)];
    tables.extend(scores.iter().filter_map(confused));
    tables.push(terms_table("Must-hear terms", scores));
    tables.retain(|table| !table.is_empty());
    tables
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

/// How often words of each confidence are right; none where no engine gives confidences.
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
    Some(ChartFigure { narrow: None, svg: plane_svg(&chart), caption })
}
