//! What a reader with two minutes must know: what differs, where, and what to listen to; and the picture of it.

use fonex_analysis::{Comparison, Side, comparable};
use fonex_core::measures::{Better, Measure, find};
use fonex_core::verdict::{Finding, LEAST_CLIPS_OF_SLICE};
use fonex_report::charts::{ChartWidth, IntervalAxis, IntervalRow, IntervalSeries, RateMark, interval_svg};
use fonex_report::figures::figure_with_interval;
use fonex_report::{Book, ChartFigure};

use super::names::Names;
use crate::brief::ranking;
use crate::commands::compare::statement;
use crate::output::{self, plural};

/// Series of one picture.
const MOST_SERIES: usize = 6;
/// Rows of one picture, all clips among them.
const MOST_ROWS: usize = 7;
/// Clips named to listen to.
const MOST_NAMED: usize = 3;

/// The measure that the page is about: the word error rate where it was compared, else the first with a verdict, else the first.
pub fn headline(comparisons: &[Comparison]) -> Option<&'static Measure> {
    let findings = || comparisons.iter().flat_map(|comparison| &comparison.findings);
    let wer = findings().find(|finding| finding.measure == "wer");
    let told = findings().find(|finding| is_told(finding));
    wer.or(told).or_else(|| findings().next()).and_then(|finding| find(&finding.measure))
}

fn is_told(finding: &Finding) -> bool {
    finding.verdict.is_difference()
}

/// Lines of the verdict.
const MOST_LINES: usize = 4;

/// Which variant is best, where that shows most, and what to listen to.
pub fn verdict(
    comparisons: &[Comparison],
    names: &Names<'_>,
    sides: &[Side<'_>],
    book: Option<&Book>,
) -> Vec<String> {
    let mut lines = Vec::new();
    match headline(comparisons) {
        Some(measure) => {
            lines.extend(best(comparisons, measure, names, sides));
            lines.extend(told_most(comparisons, measure));
        }
        None => lines.extend(of_one(names, sides)),
    }
    let failed: u64 = sides.iter().map(|side| side.variant.failed()).sum();
    let harmful = book.map(|book| book.hardest(MOST_NAMED)).filter(|clips| !clips.is_empty());
    lines.truncate(MOST_LINES - 1);
    if failed > 0 {
        let trials: u64 = sides.iter().map(|side| side.variant.extras.trials).sum();
        lines.push(format!("{failed} of {} have no answer.", plural(trials, "trial")));
    } else if let Some(clips) = harmful {
        lines.push(format!("Listen first to {}.", clips.join(", ")));
    }
    lines
}

/// Which variant has the best figure, group by group.
fn best(comparisons: &[Comparison], measure: &'static Measure, names: &Names<'_>, sides: &[Side<'_>]) -> Vec<String> {
    let groups = comparable(sides).into_iter().filter(|group| group.len() > 1);
    let named = groups.map(|group| group.iter().map(|side| (names.of(*side), *side)).collect::<Vec<_>>());
    let ranked = named.filter_map(|group| Some(ranking(measure, &group, comparisons)?.sentences().join(" ")));
    let mut lines: Vec<String> = ranked.take(2).collect();
    // Where one recogniser hears all voices, its name says nothing.
    let mut listeners = sides.iter().filter(|side| side.variant.variant.hears.is_some());
    let listener =
        |side: &Side<'_>| side.variant.variant.name.rsplit_once(" by ").map(|(_, name)| format!(" by {name}"));
    if let Some(only) = listeners.next().and_then(listener)
        && listeners.all(|side| listener(side).as_ref() == Some(&only))
    {
        lines.iter_mut().for_each(|line| *line = line.replace(&only, ""));
    }
    lines
}

/// The slice in which the measure differs most, and the first difference in another measure.
fn told_most(comparisons: &[Comparison], measure: &Measure) -> Vec<String> {
    let all = || comparisons.iter().flat_map(|one| one.findings.iter().map(move |finding| (one, finding)));
    let told = || all().filter(|(_, finding)| is_told(finding));
    let sliced = told().filter(|(_, finding)| finding.measure == measure.id && finding.slice.is_some());
    let slice = sliced.max_by(|a, b| size(a.1).total_cmp(&size(b.1)));
    let other = told().find(|(_, finding)| finding.measure != measure.id && finding.slice.is_none());
    slice.into_iter().chain(other).filter_map(|(comparison, finding)| statement(comparison, finding)).collect()
}

/// Small slices have no interval, and would stretch the axis.
fn is_drawn(finding: &Finding) -> bool {
    finding.slice.is_none() || finding.interval.is_some()
}

fn size(finding: &Finding) -> f64 {
    finding.difference.map_or(0.0, f64::abs)
}

/// Where there is nothing to compare, the figure of each variant's first measure.
fn of_one(names: &Names<'_>, sides: &[Side<'_>]) -> Vec<String> {
    let told = sides.iter().filter_map(|side| {
        let (measure, estimate) = side.variant.measures.iter().next()?;
        let figure = figure_with_interval(measure.unit, Some(estimate.value), estimate.interval);
        let clips = plural(side.variant.clips, "clip");
        Some(format!("{}: {} {figure} over {clips}.", names.of(*side), measure.name))
    });
    told.take(2).collect()
}

/// The differences in the headline measure with their intervals, over all clips and by slice.
pub fn picture(comparisons: &[Comparison]) -> Option<ChartFigure> {
    let measure = headline(comparisons)?;
    let of_measure = |comparison: &Comparison| -> Vec<Finding> {
        comparison.findings.iter().filter(|one| one.measure == measure.id && is_drawn(one)).cloned().collect()
    };
    let with: Vec<(&Comparison, Vec<Finding>)> = comparisons
        .iter()
        .map(|comparison| (comparison, of_measure(comparison)))
        .filter(|(_, findings)| findings.iter().any(|finding| finding.difference.is_some()))
        .collect();
    let shown = &with[..with.len().min(MOST_SERIES)];
    let first = &shown.first()?.0.first;
    let mut slices: Vec<(Option<String>, u64)> = Vec::new();
    for finding in shown.iter().flat_map(|(_, findings)| findings) {
        if slices.iter().all(|(slice, _)| *slice != finding.slice) {
            slices.push((finding.slice.clone(), finding.clips));
        }
    }
    slices.truncate(MOST_ROWS);
    let rows: Vec<IntervalRow> = slices
        .iter()
        .map(|(slice, clips)| IntervalRow {
            name: slice.as_ref().map_or_else(|| "all clips".to_owned(), |slice| slice.replace('=', " = ")),
            size: plural(*clips, "clip"),
        })
        .collect();
    let series: Vec<IntervalSeries> = shown
        .iter()
        .map(|(comparison, findings)| IntervalSeries {
            name: comparison.second.clone(),
            values: slices
                .iter()
                .map(|(slice, _)| {
                    let finding = findings.iter().find(|finding| finding.slice == *slice)?;
                    let interval = finding.interval.map(|i| (i.low, i.high));
                    Some(RateMark { value: finding.difference?, interval })
                })
                .collect(),
        })
        .collect();
    let better = match measure.better {
        Better::Lower => "; further left is better",
        Better::Higher => "; further right is better",
        Better::Neither => "",
    };
    let axis = format!("difference from {first}{better}; bars are intervals at 95 % for all findings of the page");
    let title = format!("{}: difference from {first}", output::capital(measure.name));
    let drawn = |width| interval_svg(&title, (&axis, IntervalAxis::Difference(measure.unit)), &rows, &series, width);
    let (svg, narrow) = (drawn(ChartWidth::Wide), Some(drawn(ChartWidth::Narrow)));
    let left_out: Vec<&str> = with[shown.len()..].iter().map(|(one, _)| one.second.as_str()).collect();
    let of_measure = |one: &&Finding| one.measure == measure.id;
    let all_drawn = comparisons.iter().flat_map(|one| &one.findings).filter(of_measure).all(is_drawn);
    let small = if all_drawn {
        String::new()
    } else {
        format!(" Slices of fewer than {LEAST_CLIPS_OF_SLICE} clips are not drawn.")
    };
    let caption = format!(
        "Differences in {}, pair by pair of the same clips.{}{}",
        measure.name,
        small,
        output::not_drawn(&left_out)
    );
    Some(ChartFigure { svg, narrow, caption })
}
