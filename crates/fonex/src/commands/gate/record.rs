//! `fonex gate --record`: limits that past runs would have kept, and how rarely a run like them would not.

use fonex_analysis::RunView;
use fonex_analysis::gate::{Baseline, Held, LimitResult, hold};
use fonex_core::measures::{Better, Measure, all, find};
use fonex_core::stats::share_bound;
use fonex_core::verdict::{BUSY_SHARE, Bound, CountsAs, Kept, Limit, WhenBusy};
use fonex_formats::{Place, Problem};
use fonex_run::Bench;
use fonex_store::Store;

use super::{GateOptions, facts, load};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

/// Runs that limits are taken from at least: with fewer nothing is known of how runs differ.
const LEAST_RUNS: usize = 3;
/// The certainty of the limits proposed.
const CERTAINTY: f64 = 0.95;

/// Prints limits as they would stand in the bench file.
pub(super) fn record(store: &mut Store, bench: &Bench, options: &GateOptions) -> Result<Code, Failure> {
    let views: Vec<RunView> =
        options.runs.iter().map(|typed| load(store, typed, options)).collect::<Result<_, Failure>>()?;
    let first = &views[0];
    if views.len() < LEAST_RUNS {
        let problem = Problem::new(format!("limits from {}", plural(views.len() as u64, "run")), Place::default());
        return Err(problem.expected(format!("{LEAST_RUNS} runs or more that were all good, oldest first")).into());
    }
    if let Some(other) = views.iter().find(|view| view.run.corpus_checksum != first.run.corpus_checksum) {
        let what = format!("run {} is of another corpus than run {}", other.name(), first.name());
        return Err(Problem::new(what, Place::default()).expected("runs of one corpus").into());
    }
    let named = options.measures.chosen()?;
    let gate = bench.gate().ok();
    let drawn = options.unit.chosen().or(gate.and_then(|gate| gate.unit));
    let unit = (drawn, gate.map_or(BUSY_SHARE, |gate| gate.busy_share));
    let mut proposals = Vec::new();
    for variant in &first.variants {
        let name = &variant.variant.name;
        if !views.iter().all(|view| view.variants.iter().any(|other| other.variant.name == *name)) {
            output::caution(&format!("{name} is not in all of these runs, and is left out"));
            continue;
        }
        let task = variant.variant.task;
        let by_default: Vec<&'static Measure> = all()
            .filter(|measure| measure.asked && !(measure.fact.timed && variant.variant.hears.is_some()))
            .collect();
        let asked = if named.is_empty() { &by_default } else { &named };
        for measure in asked.iter().filter(|measure| measure.tasks.contains(&task)) {
            if measure.better != Better::Neither {
                proposals.push(proposal(name, measure, absolute(measure.better)));
            }
            proposals.push(proposal(name, measure, Bound::WorseByAtMost(f64::INFINITY)));
        }
    }
    let held = hold_all(store, &views, &proposals, unit)?;
    let limits: Vec<Limit> = proposals.iter().filter_map(|limit| narrowed(limit, &held)).collect();
    if limits.is_empty() {
        let problem = Problem::new("these runs bound no measure", Place::default());
        return Err(problem
            .remedy("name measures that they have with --measure, or --unit clip for few speakers")
            .into());
    }
    let held = hold_all(store, &views, &limits, unit)?;
    output::print(&page(&limits, &held, &views))?;
    Ok(Code::Done)
}

fn absolute(better: Better) -> Bound {
    if better == Better::Higher { Bound::AtLeast(f64::NEG_INFINITY) } else { Bound::AtMost(f64::INFINITY) }
}

/// A limit that everything keeps, for its intervals.
fn proposal(variant: &str, measure: &'static Measure, bound: Bound) -> Limit {
    let letters = |text: &str| -> String {
        let plain = |c: char| if c.is_ascii_alphanumeric() || c == '_' { c } else { '-' };
        text.chars().map(plain).collect()
    };
    let kind = if bound.is_relative() { "change" } else { "level" };
    Limit {
        name: format!("{}-{kind}-{}", letters(measure.id), letters(variant)),
        measure,
        variants: Some(variant.to_owned()),
        slice: None,
        plan: None,
        bound,
        certainty: CERTAINTY,
        undecided: CountsAs::Fail,
        when_busy: WhenBusy::Undecided,
        exact: false,
    }
}

/// Every run against the limits, each with the run before it as its baseline.
fn hold_all(
    store: &Store,
    views: &[RunView],
    limits: &[Limit],
    (unit, busy_share): (Option<fonex_core::verdict::DrawnUnit>, f64),
) -> Result<Vec<LimitResult>, Failure> {
    let mut all = Vec::new();
    let mut before: Option<Baseline> = None;
    for view in views {
        let asked: Vec<Limit> =
            limits.iter().filter(|limit| before.is_some() || !limit.bound.is_relative()).cloned().collect();
        all.extend(hold(store, view, &asked, Held { baseline: before.as_ref(), unit, busy_share })?.limits);
        before = Some(Baseline::of(store, view, &facts(limits, view))?);
    }
    Ok(all)
}

/// The narrowest round limit that every run keeps; none where a run has no interval, or its times were withheld.
fn narrowed(limit: &Limit, held: &[LimitResult]) -> Option<Limit> {
    let own: Vec<&LimitResult> = held.iter().filter(|result| result.limit == limit.name).collect();
    let intervals = own.iter().map(|result| result.interval.filter(|_| result.verdict == Kept::Pass));
    let intervals: Vec<_> = intervals.collect::<Option<_>>()?;
    let high = intervals.iter().map(|interval| interval.high).fold(f64::NEG_INFINITY, f64::max);
    let low = intervals.iter().map(|interval| interval.low).fold(f64::INFINITY, f64::min);
    let bound = match (limit.bound, limit.measure.better) {
        (Bound::AtLeast(_), _) => Bound::AtLeast(rounded(low, false)),
        (Bound::AtMost(_), _) => Bound::AtMost(rounded(high, true)),
        (_, Better::Lower) => Bound::WorseByAtMost(rounded(high.max(0.0), true)),
        (_, Better::Higher) => Bound::WorseByAtMost(rounded((-low).max(0.0), true)),
        (_, Better::Neither) => Bound::WorseByAtMost(rounded(high.max(-low), true)),
    };
    let bounds_something = bound.amount().is_finite() && (!bound.is_relative() || bound.amount() > 0.0);
    bounds_something.then(|| Limit { bound, ..limit.clone() })
}

/// To two significant digits, away from what was seen.
fn rounded(value: f64, up: bool) -> f64 {
    if value == 0.0 || !value.is_finite() {
        return value;
    }
    let places = 1 - value.abs().log10().floor() as i32;
    let scale = 10_f64.powi(places);
    let scaled = value * scale;
    // What is round already stays: its last bit is no reason to go a step further.
    let near = scaled.round();
    let whole = if (scaled - near).abs() < 1e-6 {
        near
    } else if up {
        scaled.ceil()
    } else {
        scaled.floor()
    };
    // Read as it is printed.
    format!("{:.*}", places.max(0) as usize, whole / scale).parse().unwrap_or(value)
}

fn page(limits: &[Limit], held: &[LimitResult], views: &[RunView]) -> String {
    let names: Vec<String> =
        views.iter().map(|view| view.run.label.clone().unwrap_or_else(|| view.run.id.to_string())).collect();
    let mut text = format!("# Limits that these runs keep: {}.\n", names.join(", "));
    text +=
        "# A run of before that was bad widens them: name good runs only. A change is held against the run before.\n";
    for limit in limits {
        let own: Vec<&LimitResult> = held.iter().filter(|result| result.limit == limit.name).collect();
        let kept = own.iter().filter(|result| result.verdict == Kept::Pass).count();
        text += &format!("\n[gate.limit.{}]\n", limit.name);
        text += &format!(
            "# kept by {kept} of {}: a run like these does not keep it in at most {:.0} % (95 % certainty)\n",
            own.len(),
            share_bound((own.len() - kept) as u64, own.len() as u64, 1.0 - CERTAINTY) * 100.0
        );
        text += &format!("measure = \"{}\"\n", limit.measure.id);
        if let Some(variant) = &limit.variants {
            text += &format!("variant = {}\n", serde_json::Value::String(variant.clone()));
        }
        let (name, amount) = match limit.bound {
            Bound::AtMost(amount) => ("at_most", amount),
            Bound::AtLeast(amount) => ("at_least", amount),
            Bound::WorseByAtMost(amount) => ("worse_by_at_most", amount),
            Bound::DiffersByAtMost(amount) => ("differs_by_at_most", amount),
        };
        let about = find(limit.measure.id).map_or("", |measure| measure.unit.as_str());
        text += &format!("{name} = {amount:?} # {about}\n");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_round_and_keep_what_was_seen() {
        for (value, up, round) in [
            (0.1234, true, 0.13),
            (0.1234, false, 0.12),
            (-12.34, true, -12.0),
            (-12.34, false, -13.0),
            (1234.0, true, 1300.0),
            (0.13, true, 0.13),
            (0.0, true, 0.0),
        ] {
            assert!((rounded(value, up) - round).abs() < 1e-12, "{value}: {}", rounded(value, up));
        }
    }
}
