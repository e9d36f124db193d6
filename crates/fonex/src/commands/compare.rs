//! `fonex compare`: findings about variants over the same clips.

use fonex_core::findings::{Finding, Measure, Verdict};
use fonex_formats::{Place, Problem};
use fonex_store::Store;

use super::{find_run, find_variant};
use crate::analysis::{Comparison, CostSummary, RunView, Side, VariantView, by_task, compare};
use crate::bench::existing_store;
use crate::cli::{Compare, Format};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, milliseconds, money, percent, percent_points};

pub fn compare_runs(options: &Compare) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
    let named = options.runs.iter().map(|typed| Named::find(&store, typed)).collect::<Result<Vec<_>, _>>()?;
    let comparisons = compare_named(&named, &options.by, options.seed)?;
    match options.format.format {
        Format::Json => output::print_json(&comparisons)?,
        Format::Table => output::print(&page(&comparisons))?,
        form => output::print_table(&findings_table(&comparisons), form)?,
    }
    Ok(Code::Done)
}

/// A run as named, with its variant where one was.
pub(super) struct Named {
    view: RunView,
    variant: Option<String>,
}

impl Named {
    fn find(store: &Store, typed: &str) -> Result<Self, Failure> {
        // A label may hold a colon itself: the whole is tried first.
        let whole = store.run(&fonex_store::RunRef::parse(typed))?;
        let (run, variant) = match (whole, typed.split_once(':')) {
            (Some(run), _) => (run, None),
            (None, Some((run, variant))) => (find_run(store, run)?, Some(variant.to_owned())),
            (None, None) => (find_run(store, typed)?, None),
        };
        let view = RunView::load(store, run)?;
        if let Some(name) = &variant {
            find_variant(&view, name)?;
        }
        Ok(Self { view, variant })
    }

    /// Every variant that was named: one, or all of the run.
    fn sides(&self) -> Vec<Side<'_>> {
        let named = |view: &&VariantView| self.variant.as_ref().is_none_or(|name| view.variant.name == *name);
        self.view.variants.iter().filter(named).map(|variant| Side { run: &self.view, variant }).collect()
    }
}

/// Holds everything after the first against it. Of two whole runs, variants of the same name are paired; where each has
/// but one, those two.
fn compare_named(named: &[Named], by: &[String], seed: u64) -> Result<Vec<Comparison>, Failure> {
    let (first, rest) = named.split_first().expect("the command line asks for one run at least");
    let firsts = first.sides();
    if rest.is_empty() {
        let mut comparisons = Vec::new();
        for group in by_task(&firsts) {
            if let [one, others @ ..] = group.as_slice() {
                comparisons.extend(compare(*one, others, by, seed));
            }
        }
        if comparisons.is_empty() {
            let problem = Problem::new("no two variants of this run do the same", Place::default());
            return Err(problem.remedy("name a second run, or RUN:VARIANT twice").into());
        }
        return Ok(comparisons);
    }
    let mut comparisons = Vec::new();
    for base in &firsts {
        let same = |side: &Side<'_>| side.variant.variant.name == base.variant.variant.name;
        let others: Vec<Side<'_>> = rest
            .iter()
            .flat_map(|named| {
                let sides = named.sides();
                let single = sides.len() == 1 && firsts.len() == 1;
                sides.into_iter().filter(move |side| single || same(side))
            })
            .collect();
        comparisons.extend(compare(*base, &others, by, seed));
    }
    if comparisons.is_empty() {
        let problem = Problem::new("the runs have no variant in common", Place::default());
        return Err(problem.remedy("name the variants: RUN:VARIANT RUN:VARIANT").into());
    }
    Ok(comparisons)
}

fn page(comparisons: &[Comparison]) -> String {
    let mut text = String::new();
    for comparison in comparisons {
        text += &format!("{} against {}\n", comparison.second, comparison.first);
        for caution in &comparison.cautions {
            text += &format!("  caution: {caution}\n");
        }
        text += &findings_table(std::slice::from_ref(comparison)).text();
        text += &costs(comparison);
        text.push('\n');
    }
    text + "Pairs of the same clips; intervals and verdicts are 95 % over all findings shown together.\n"
}

/// What the two cost, for each word heard right or else for each trial. No sample and no chance: no interval.
fn costs(comparison: &Comparison) -> String {
    let (first, second) = (comparison.first_cost.as_ref(), comparison.second_cost.as_ref());
    if first.is_none() && second.is_none() {
        return String::new();
    }
    let words = [first, second].into_iter().flatten().all(|cost| cost.per_correct_word.is_some());
    let cost = |side: Option<&CostSummary>| {
        side.map_or_else(
            || "no price".to_owned(),
            |side| {
                let each = if words { side.per_correct_word } else { Some(side.per_trial) };
                each.map_or_else(|| "–".to_owned(), |each| money(each, Some(&side.currency)))
            },
        )
    };
    let what = if words { "a correct word" } else { "a trial" };
    format!("cost of {what}: first {}, second {}\n", cost(first), cost(second))
}

/// One row a finding.
fn findings_table(comparisons: &[Comparison]) -> Table {
    let several = comparisons.len() > 1;
    let mut columns = vec![
        "verdict",
        "measure",
        "clips of",
        ">clips",
        ">first",
        ">second",
        ">difference",
        "interval",
        "what it would take",
    ];
    if several {
        columns.splice(0..0, ["first variant", "second variant"]);
    }
    let mut table = Table::new(columns);
    for comparison in comparisons {
        for finding in &comparison.findings {
            let mut cells = finding_cells(finding).to_vec();
            if several {
                cells.splice(0..0, [comparison.first.clone(), comparison.second.clone()]);
            }
            table.row(cells);
        }
    }
    table
}

fn finding_cells(finding: &Finding) -> [String; 9] {
    let value = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), |value| measured(finding.measure, value));
    let difference = |value: f64| signed(finding.measure, value);
    let interval =
        finding.interval.map_or_else(String::new, |i| format!("{} to {}", difference(i.low), difference(i.high)));
    [
        verdict(finding.verdict),
        measure_name(finding.measure).to_owned(),
        finding.slice.clone().unwrap_or_else(|| "all".to_owned()),
        finding.clips.to_string(),
        value(finding.first),
        value(finding.second),
        finding.difference.map_or_else(|| "–".to_owned(), difference),
        interval,
        what_it_would_take(finding),
    ]
}

/// The verdict with a sign that reads without colour.
fn verdict(verdict: Verdict) -> String {
    let sign = match verdict {
        Verdict::Better => "▼",
        Verdict::Worse => "▲",
        Verdict::CannotTell => "?",
    };
    format!("{sign} {}", verdict.as_str())
}

pub(super) fn measure_name(measure: Measure) -> &'static str {
    match measure {
        Measure::Wer => "WER",
        Measure::LatencyMs => "latency, median",
        Measure::Rtf => "RTF, median",
        Measure::ClippedShare => "clipped samples, median",
    }
}

pub(super) fn measured(measure: Measure, value: f64) -> String {
    match measure {
        Measure::Wer | Measure::ClippedShare => percent(Some(value)),
        Measure::LatencyMs => milliseconds(value),
        Measure::Rtf => format!("{value:.3}"),
    }
}

pub(super) fn signed(measure: Measure, value: f64) -> String {
    match measure {
        Measure::Wer | Measure::ClippedShare => format!("{} pts", percent_points(value)),
        Measure::LatencyMs => format!("{}{}", if value < 0.0 { "−" } else { "+" }, milliseconds(value.abs())),
        Measure::Rtf => output::signed(value, 3),
    }
}

fn what_it_would_take(finding: &Finding) -> String {
    match (finding.verdict, finding.interval, finding.more_clips) {
        (Verdict::CannotTell, None, _) => "too few clips for an interval".to_owned(),
        (Verdict::CannotTell, Some(_), Some(more)) => format!("about {more} more clips like these"),
        (Verdict::CannotTell, Some(_), None) if finding.difference == Some(0.0) => "no difference is seen".to_owned(),
        (Verdict::CannotTell, Some(_), None) => "over a million more clips".to_owned(),
        _ => String::new(),
    }
}
