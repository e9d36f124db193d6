//! What a gate says, for a terminal, a pull request and a CI system.

use fonex_analysis::gate::{GateResult, LimitResult};
use fonex_core::measures::{Measure, Unit, find};
use fonex_core::verdict::{Bound, CountsAs, Kept};
use fonex_formats::{Place, Problem};
use fonex_report::figures::{difference, difference_with_interval, figure, figure_with_interval};
use fonex_report::folded_under;
use fonex_report::junit::{Case, Ended, Suite, junit};

use crate::failure::Failure;
use crate::output::{self, Cell, Table, plural};

pub(super) fn gate_page(result: &GateResult) -> String {
    let mut text = format!("{}\n", heading(result));
    for caution in &result.cautions {
        text += &folded_under(&format!("  caution: {caution}"), output::width(), 4);
    }
    text += &output::text(&limits_table(result).without(&["measure id", "certainty", "more clips", "reason"]));
    for limit in result.limits.iter().filter(|limit| limit.verdict != Kept::Pass) {
        text += &folded_under(&format!("{}: {}", name(limit), why(limit)), output::width(), 2);
    }
    for (name, although) in judged_although(result) {
        text += &folded_under(&format!("{name}: judged although {although}"), output::width(), 2);
    }
    text + &verdict_line(result) + "\n"
}

/// Limits that were judged in spite of what speaks against their times.
fn judged_although(result: &GateResult) -> impl Iterator<Item = (String, &String)> {
    result.limits.iter().filter_map(|limit| Some((name(limit), limit.judged_although.as_ref()?)))
}

/// The same for a pull request.
pub(super) fn gate_markdown(result: &GateResult) -> String {
    let mut text = format!("**{}**\n\n{}\n\n", verdict_line(result), heading(result));
    text += &limits_table(result).without(&["measure id", "certainty", "more clips"]).markdown();
    if !result.cautions.is_empty() {
        text.push('\n');
        text.extend(result.cautions.iter().map(|caution| format!("- caution: {caution}\n")));
    }
    text.extend(judged_although(result).map(|(name, although)| format!("\n{name}: judged although {although}\n")));
    text
}

pub(super) fn gate_json(result: &GateResult) -> Result<String, Failure> {
    let text =
        serde_json::to_string_pretty(result).map_err(|error| Problem::new(error.to_string(), Place::default()))?;
    Ok(text + "\n")
}

/// One case a limit and variant. An undecided one fails or is skipped, as it counts.
///
/// The suite's time is the run's: the gate itself computes from what was stored.
pub(super) fn gate_junit(result: &GateResult, (began, took_s): (&str, Option<f64>)) -> Result<String, Failure> {
    let case = |limit: &LimitResult| {
        let clips_of = limit.slice.as_ref().map_or_else(String::new, |slice| format!(" [{slice}]"));
        let variant = limit.variant.as_deref().unwrap_or("no variant");
        Case {
            group: format!("{variant}{clips_of}"),
            name: limit.limit.clone(),
            ended: match (limit.verdict, limit.counts_as) {
                (Kept::Pass, _) => Ended::Passed,
                (Kept::Fail, _) => Ended::Failed("fail", why(limit)),
                (Kept::Undecided, CountsAs::Fail) => Ended::Failed("undecided", why(limit)),
                (Kept::Undecided, CountsAs::Pass) => Ended::Skipped(why(limit)),
            },
            text: format!("{}: {}, allowed {}", limit.measure, seen(limit), allowed(limit)),
        }
    };
    let cases: Vec<Case> = result.limits.iter().map(case).collect();
    let suite = Suite { name: format!("fonex gate, {}", run_name(result)), began: began.to_owned(), took_s };
    Ok(junit(&suite, &cases)?)
}

fn run_name(result: &GateResult) -> String {
    result
        .label
        .as_ref()
        .map_or_else(|| format!("run {}", result.run), |label| format!("run {} ({label})", result.run))
}

fn heading(result: &GateResult) -> String {
    match &result.baseline {
        Some(baseline) => format!("{} against the baseline, {baseline}", run_name(result)),
        None => format!("{}, without a baseline", run_name(result)),
    }
}

fn verdict_line(result: &GateResult) -> String {
    let count = |kept: Kept| result.limits.iter().filter(|limit| limit.verdict == kept).count() as u64;
    let undecided = count(Kept::Undecided);
    let counted = |counts_as: CountsAs| {
        let own = |limit: &&LimitResult| limit.verdict == Kept::Undecided && limit.counts_as == counts_as;
        result.limits.iter().filter(own).count() as u64
    };
    let mut parts = vec![format!("{} of {} kept", count(Kept::Pass), plural(result.limits.len() as u64, "limit"))];
    if count(Kept::Fail) > 0 {
        parts.push(format!("{} overstepped", count(Kept::Fail)));
    }
    if undecided > 0 {
        let counts = match (counted(CountsAs::Fail), counted(CountsAs::Pass)) {
            (_, 0) => "not passed".to_owned(),
            (0, _) => "passed".to_owned(),
            (fail, pass) => format!("{pass} passed and {fail} not passed"),
        };
        parts.push(format!("{undecided} undecided, counted as {counts}"));
    }
    let word = if result.verdict == CountsAs::Pass { "passes" } else { "does not pass" };
    format!("The gate {word}: {}.", parts.join(", "))
}

/// One row a limit and variant.
pub(super) fn limits_table(result: &GateResult) -> Table {
    let columns = [
        ("limit", 0),
        ("verdict", 0),
        ("variant", 1),
        ("measure", 2),
        ("measure id", 4),
        ("clips of", 2),
        ("clips", 3),
        ("units", 5),
        ("figure", 0),
        ("baseline", 3),
        ("difference", 0),
        ("allowed", 1),
        ("certainty", 4),
        ("more clips", 4),
        ("reason", 4),
    ];
    let mut table = Table::new(columns);
    for limit in &result.limits {
        let measure = find(&limit.measure);
        let unit = measure.map_or(Unit::Ratio, |measure| measure.unit);
        let relative = limit.difference.is_some();
        table.row([
            Cell::text(limit.limit.as_str()),
            verdict(limit.verdict),
            limit.variant.as_deref().map_or(Cell::Empty, Cell::text),
            measure.map_or(Cell::Empty, |measure| {
                let name = if limit.difference.is_some() { measure.name_compared() } else { measure.name };
                Cell::Named(measure.id, name)
            }),
            Cell::text(limit.measure.as_str()),
            Cell::text(limit.slice.as_deref().unwrap_or("all")),
            Cell::Count(limit.clips),
            if let Some(speakers) = limit.speakers {
                Cell::text(format!("clips of {}", output::these_speakers(speakers)))
            } else if limit.unit == fonex_core::verdict::DrawnUnit::Clip {
                Cell::Empty
            } else {
                Cell::text(plural(limit.units, limit.unit.as_str()))
            },
            limit
                .figure
                .map_or(Cell::Empty, |value| Cell::Estimate(unit, value, limit.interval.filter(|_| !relative))),
            Cell::figure(unit, limit.baseline),
            limit.difference.map_or(Cell::Empty, |value| Cell::Difference(unit, value, limit.interval)),
            Cell::text(allowed(limit)),
            Cell::number(limit.certainty, 2),
            limit.more_clips.map_or(Cell::Empty, Cell::Count),
            Cell::text(if limit.verdict == Kept::Pass { String::new() } else { why(limit) }),
        ]);
    }
    table.without_empty_columns()
}

fn verdict(kept: Kept) -> Cell {
    let sign = match kept {
        Kept::Pass => "✓",
        Kept::Fail => "✗",
        Kept::Undecided => "?",
    };
    Cell::Verdict(sign, kept.as_str().to_owned())
}

fn name(limit: &LimitResult) -> String {
    limit.variant.as_ref().map_or_else(|| limit.limit.clone(), |variant| format!("{}, {variant}", limit.limit))
}

fn unit(limit: &LimitResult) -> Unit {
    find(&limit.measure).map_or(Unit::Ratio, |measure| measure.unit)
}

/// What is allowed, in words.
pub(super) fn allowed(limit: &LimitResult) -> String {
    let unit = unit(limit);
    let margin = |amount: f64| difference(unit, amount).trim_start_matches(['+', '−']).to_owned();
    match limit.allowed {
        Bound::AtMost(most) => format!("at most {}", figure(unit, Some(most))),
        Bound::AtLeast(least) => format!("at least {}", figure(unit, Some(least))),
        Bound::WorseByAtMost(most) => format!("worse by {} at most", margin(most)),
        Bound::DiffersByAtMost(most) => format!("off by {} at most", margin(most)),
    }
}

/// What was seen.
fn seen(limit: &LimitResult) -> String {
    let unit = unit(limit);
    match (limit.difference, limit.figure) {
        (Some(off), own) => format!(
            "{} against {}, difference {}",
            figure(unit, own),
            figure(unit, limit.baseline),
            difference_with_interval(unit, off, limit.interval)
        ),
        (None, Some(value)) => figure_with_interval(unit, Some(value), limit.interval),
        (None, None) => "no figure".to_owned(),
    }
}

/// Why a limit is not kept, or not shown to be.
fn why(limit: &LimitResult) -> String {
    if let Some(reason) = &limit.reason {
        return reason.clone();
    }
    let over = format!("over {}", plural(limit.clips, "clip"));
    let (seen, allowed) = (seen(limit), allowed(limit));
    match limit.verdict {
        Kept::Pass => String::new(),
        Kept::Fail => format!("{seen} {over}; allowed is {allowed}"),
        Kept::Undecided => {
            let sure = find(&limit.measure).and_then(|measure| surely_worse(limit, measure));
            let clips = limit.more_clips.map_or_else(
                || "no number of clips up to a million decides where the figure lies on the limit".to_owned(),
                |more| format!("{} would decide with a chance of 80 %", plural(more, "more clip")),
            );
            format!("{seen} {over}; allowed is {allowed}{}; {clips}", sure.unwrap_or_default())
        }
    }
}

/// Whether the run is surely worse than the baseline, only not surely by more than the margin.
fn surely_worse(limit: &LimitResult, measure: &Measure) -> Option<String> {
    use fonex_core::verdict::Verdict;
    let (off, interval) = (limit.difference?, limit.interval?);
    let worse = Verdict::of(measure.better, off) == Verdict::Worse && (interval.low > 0.0 || interval.high < 0.0);
    worse.then(|| "; it is surely worse, only not surely by more than that".to_owned())
}
