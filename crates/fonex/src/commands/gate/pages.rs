//! What a gate says, for a terminal, a pull request and a CI system.

use fonex_analysis::gate::{GateResult, LimitResult};
use fonex_core::measures::{Measure, Unit, find};
use fonex_core::verdict::{Bound, CountsAs, Kept};
use fonex_formats::{Place, Problem};
use fonex_report::figures::{difference, difference_with_interval, figure, figure_with_interval};
use fonex_report::junit::{Case, Ended, Suite, junit};

use crate::brief::Brief;
use crate::failure::Failure;
use crate::output::{self, Cell, Table, plural};

/// Columns of the limits that sentences say, or that CSV alone has.
const NOT_IN_THE_ANSWER: [&str; 7] =
    ["measure id", "clips of", "clips", "baseline", "certainty", "more clips", "reason"];

/// Limits that each have a sentence in the answer.
const MOST_SENTENCES: usize = 3;

/// The answer of a gate, its verdict as the first word.
pub(super) fn gate_brief(result: &GateResult) -> Brief {
    let against = result.baseline.as_ref().map_or_else(String::new, |baseline| format!(" against {baseline}"));
    let only = result.r#where.as_ref().map_or_else(String::new, |only| format!(", where {only},"));
    let mut brief = Brief {
        heading: format!("{}: {}{only}{against}: {}", word(result), run_name(result), counts(result)),
        ..Brief::default()
    };
    let breaks = |limit: &&LimitResult| limit.counts_as == CountsAs::Fail;
    let broken: Vec<&LimitResult> = result.limits.iter().filter(breaks).collect();
    for limit in broken.iter().take(MOST_SENTENCES) {
        brief.answer.push(format!("{}: {}.", name(limit), why(limit)));
    }
    if broken.len() > MOST_SENTENCES {
        brief
            .answer
            .push(format!("{} more are listed below.", plural((broken.len() - MOST_SENTENCES) as u64, "limit")));
    }
    let clips = worst_clips(result);
    if !clips.is_empty() {
        brief.answer.push(format!("Worst clips: {}.", clips.join(", ")));
    }
    let mut table = limits_table(result).without(&NOT_IN_THE_ANSWER);
    if result.limits.iter().all(|limit| limit.variant == result.limits[0].variant) {
        table = table.without(&["variant"]);
    }
    brief.tables = vec![table];
    let open = result.limits.iter().filter(|limit| limit.verdict == Kept::Undecided && !breaks(limit));
    brief.stands_out = open.map(|limit| format!("{}, counted as passed: {}", name(limit), why(limit))).collect();
    brief
        .stands_out
        .extend(judged_although(result).map(|(name, although)| format!("{name}: judged although {although}")));
    brief.stands_out.extend(result.cautions.iter().cloned());
    let run = result.label.clone().unwrap_or_else(|| result.run.to_string());
    let has_words = broken.iter().any(|limit| !limit.worst_clips.is_empty());
    let baseline = result.baseline.as_deref().and_then(baseline_run);
    if let Some(baseline) = baseline.filter(|_| has_words) {
        brief.more.push(format!("fonex compare {baseline} {run} --flips"));
    }
    if let Some(clip) = clips.first() {
        brief.more.push(format!("fonex show {run} --clip {clip}"));
    }
    if result.verdict == CountsAs::Pass {
        brief.more.push(format!("fonex gate {run} --accept"));
    }
    brief
}

/// The label or number of the baseline's run in `run 7 (w45)`.
fn baseline_run(name: &str) -> Option<&str> {
    let rest = name.strip_prefix("run ")?;
    rest.split_once(" (").map_or(Some(rest), |(_, label)| label.strip_suffix(')'))
}

/// The worst clips of the limits that are not passed, each once.
fn worst_clips(result: &GateResult) -> Vec<&str> {
    const MOST: usize = 5;
    let mut clips: Vec<&str> = Vec::new();
    // Exceeded limits before undecided ones.
    for kept in [Kept::Fail, Kept::Undecided] {
        let own = result.limits.iter().filter(|limit| limit.verdict == kept && limit.counts_as == CountsAs::Fail);
        for clip in own.flat_map(|limit| &limit.worst_clips) {
            if clips.len() < MOST && !clips.contains(&clip.as_str()) {
                clips.push(clip);
            }
        }
    }
    clips
}

const fn word_of(kept: Kept) -> &'static str {
    match kept {
        Kept::Pass => "PASS",
        Kept::Fail => "FAIL",
        Kept::Undecided => "UNDECIDED",
    }
}

/// `FAIL` where a limit is exceeded, `UNDECIDED` where the gate does not pass for other reasons.
fn word(result: &GateResult) -> &'static str {
    let exceeded = result.limits.iter().any(|limit| limit.verdict == Kept::Fail);
    word_of(match (result.verdict, exceeded) {
        (CountsAs::Pass, _) => Kept::Pass,
        (CountsAs::Fail, true) => Kept::Fail,
        (CountsAs::Fail, false) => Kept::Undecided,
    })
}

/// `1 limit exceeded, 2 undecided, 1 passed`.
fn counts(result: &GateResult) -> String {
    let count = |kept: Kept| result.limits.iter().filter(|limit| limit.verdict == kept).count() as u64;
    let counted = result.limits.iter().filter(|limit| limit.verdict == Kept::Undecided);
    let passed_over = counted.filter(|limit| limit.counts_as == CountsAs::Pass).count() as u64;
    let mut parts = Vec::new();
    if count(Kept::Fail) > 0 {
        parts.push(format!("{} exceeded", plural(count(Kept::Fail), "limit")));
    }
    match (count(Kept::Undecided), passed_over) {
        (0, _) => {}
        (open, passed) if passed == open && result.verdict == CountsAs::Pass => {
            parts.push(format!("{open} undecided, counted as passed"));
        }
        (open, _) => parts.push(format!("{open} undecided")),
    }
    let kept = count(Kept::Pass);
    parts.push(match parts.is_empty() {
        true => format!("{} kept", plural(kept, "limit")),
        false => format!("{kept} kept"),
    });
    parts.join(", ")
}

/// Limits that were judged in spite of what speaks against their times.
fn judged_although(result: &GateResult) -> impl Iterator<Item = (String, &String)> {
    result.limits.iter().filter_map(|limit| Some((name(limit), limit.judged_although.as_ref()?)))
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
            text: format!("{}: {}, allowed {}{}", limit.measure, seen(limit), allowed(limit), clips_to_hear(limit)),
        }
    };
    let cases: Vec<Case> = result.limits.iter().map(case).collect();
    let suite = Suite { name: format!("fonex gate, {}", run_name(result)), began: began.to_owned(), took_s };
    Ok(junit(&suite, &cases)?)
}

fn clips_to_hear(limit: &LimitResult) -> String {
    if limit.worst_clips.is_empty() {
        String::new()
    } else {
        format!("; worst clips: {}", limit.worst_clips.join(", "))
    }
}

fn run_name(result: &GateResult) -> String {
    result
        .label
        .as_ref()
        .map_or_else(|| format!("run {}", result.run), |label| format!("run {} ({label})", result.run))
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
        ("allowed", 0),
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
    let slice = limit.slice.as_ref().map_or_else(String::new, |slice| format!(" of {slice}"));
    let over = format!("on {}{slice}", plural(limit.clips, "clip"));
    let measure = find(&limit.measure).map_or(limit.measure.as_str(), |measure| match limit.difference {
        Some(_) => measure.name_compared(),
        None => measure.name,
    });
    let (seen, allowed) = (format!("{measure} {}", seen(limit)), allowed(limit));
    match limit.verdict {
        Kept::Pass => String::new(),
        Kept::Fail => format!("{seen} {over}; allowed is {allowed}"),
        Kept::Undecided => {
            let sure = find(&limit.measure).and_then(|measure| surely_worse(limit, measure));
            let clips = limit.more_clips.map_or_else(
                || "the figure is on the limit, which no number of clips up to a million decides".to_owned(),
                |more| format!("about {} would decide (80 % power)", plural(more, "more clip")),
            );
            format!("{seen} {over}; allowed is {allowed}{}; {clips}", sure.unwrap_or_default())
        }
    }
}

/// Whether the run is certainly worse than the baseline, but not certainly by more than the margin.
fn surely_worse(limit: &LimitResult, measure: &Measure) -> Option<String> {
    use fonex_core::verdict::Verdict;
    let (off, interval) = (limit.difference?, limit.interval?);
    let worse = Verdict::of(measure.better, off) == Verdict::Worse && (interval.low > 0.0 || interval.high < 0.0);
    worse.then(|| "; certainly worse, but not certainly by more than that".to_owned())
}
