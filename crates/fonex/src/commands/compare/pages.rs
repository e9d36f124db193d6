//! Findings as tables, pages and sentences.

use fonex_analysis::{Comparison, CostSummary, Side};
use fonex_core::measures::{Estimator, find};
use fonex_core::verdict::{DrawnUnit, Finding, Verdict};
use fonex_report::figures::figure;
use fonex_report::folded_under;

use crate::commands::sound::sound;
use crate::commands::varied::recipes_table;
use crate::output::{self, Cell, Table, money};

/// One table for all recipes.
pub(super) fn recipes_page(pairs: &[(Side<'_>, Side<'_>)], comparisons: &[Comparison]) -> String {
    let mut cautions: Vec<&String> = comparisons.iter().flat_map(|comparison| &comparison.cautions).collect();
    cautions.sort();
    cautions.dedup();
    let cautions = cautions.iter().map(|caution| format!("caution: {caution}\n"));
    cautions.collect::<String>() + &output::text(&recipes_table(pairs, comparisons)) + &explained(comparisons)
}

/// Why there is no verdict, a line a reason, and how many more clips would bring one.
fn undecided(findings: &[Finding]) -> String {
    let mut more_clips = Vec::new();
    let mut reasons: Vec<(String, Vec<String>)> = Vec::new();
    for finding in findings.iter().filter(|finding| finding.verdict == Verdict::CannotTell) {
        let name = find(&finding.measure).map_or(finding.measure.as_str(), |measure| measure.name_compared());
        let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!(" on {slice}"));
        if let Some(more) = more_in_words(finding) {
            more_clips.push(format!("{more} for {name}{slice}"));
            continue;
        }
        let (why, what) = (reason(finding), format!("{name}{slice}"));
        match reasons.iter_mut().find(|(known, _)| *known == why) {
            Some((_, all)) => all.push(what),
            None => reasons.push((why, vec![what])),
        }
    }
    let more_clips = (!more_clips.is_empty())
        .then(|| format!("more clips needed to detect such a difference with 80 % power: {}", more_clips.join(", ")));
    let reasons = reasons.into_iter().map(|(why, what)| format!("no verdict on {}: {why}", what.join(", ")));
    more_clips.into_iter().chain(reasons).map(|line| folded_under(&line, output::width(), 2)).collect()
}

pub(super) fn page(comparisons: &[Comparison]) -> String {
    let mut text = String::new();
    for comparison in comparisons {
        text += &format!("{} against {}\n", comparison.second, comparison.first);
        for caution in &comparison.cautions {
            text += &format!("  caution: {caution}\n");
        }
        let table = findings_table(std::slice::from_ref(comparison), false);
        text += &output::text(&table.without(&["more clips", "reason"]));
        text += &undecided(&comparison.findings);
        text += &costs(comparison);
        text += &sound(comparison);
        text.push('\n');
    }
    text + &explained(comparisons)
}

/// What intervals and verdicts stand for.
pub(in crate::commands) fn explained(comparisons: &[Comparison]) -> String {
    let mut text = String::new();
    let findings: Vec<&Finding> = comparisons.iter().flat_map(|comparison| &comparison.findings).collect();
    let tested = findings.iter().filter(|finding| finding.interval.is_some()).count();
    text += &match tested {
        0 | 1 => "Intervals and verdicts hold at 95 %.\n".to_owned(),
        several => format!("Intervals and verdicts hold at 95 % for all {several} findings together.\n"),
    };
    let is_median = |finding: &&Finding| {
        find(&finding.measure).is_some_and(|measure| matches!(measure.estimator, Estimator::Median(..)))
    };
    if findings.iter().copied().any(|finding| is_median(&finding) && finding.difference.is_some()) {
        text += "Times are geometric means over the clips in common, levels are means.\n";
    }
    let mut units: Vec<DrawnUnit> = Vec::new();
    findings.iter().map(|finding| finding.unit).for_each(|unit| {
        if !units.contains(&unit) {
            units.push(unit);
        }
    });
    // Of several pairs with other clips, each finding has its own number in the JSON.
    let speakers = findings.iter().find_map(|finding| finding.speakers);
    for unit in units {
        let of_speakers;
        text += match unit {
            DrawnUnit::Clip if speakers.is_some() => {
                let these = output::these_speakers(speakers.unwrap_or_default());
                of_speakers = format!("Verdicts hold for more clips of {these}, not for other speakers.\n");
                &of_speakers
            }
            DrawnUnit::Clip => "Verdicts hold for more clips like these.\n",
            DrawnUnit::Speaker => "Verdicts hold for more speakers like these; --unit clip limits them to these.\n",
            DrawnUnit::Recording => {
                "Verdicts hold for more recordings like these; --unit clip limits them to these.\n"
            }
        };
    }
    text
}

/// What the two cost for each trial. No sample and no chance: no interval.
fn costs(comparison: &Comparison) -> String {
    let (first, second) = (comparison.first_cost.as_ref(), comparison.second_cost.as_ref());
    if first.is_none() && second.is_none() {
        return String::new();
    }
    let cost = |side: Option<&CostSummary>| {
        side.map_or_else(|| "no price".to_owned(), |side| money(side.per_trial, Some(&side.currency)))
    };
    format!("cost of a trial: first {}, second {}\n", cost(first), cost(second))
}

/// One row a finding.
pub(in crate::commands) fn findings_table(comparisons: &[Comparison], named: bool) -> Table {
    let named = named || comparisons.len() > 1;
    let sides = [("first variant", 0), ("second variant", 0)];
    let columns = [
        ("verdict", 0),
        ("measure", 0),
        ("clips of", 0),
        ("clips", 2),
        ("units", 4),
        ("first", 1),
        ("second", 1),
        ("difference", 0),
        ("more clips", 3),
        ("reason", 3),
    ];
    let mut table = Table::new(sides.into_iter().filter(|_| named).chain(columns));
    for comparison in comparisons {
        for finding in &comparison.findings {
            let sides = [&comparison.first, &comparison.second].map(|name| Cell::text(name.as_str()));
            table.row(sides.into_iter().filter(|_| named).chain(finding_cells(finding)));
        }
    }
    table.without_empty_columns()
}

fn finding_cells(finding: &Finding) -> [Cell; 10] {
    let measure = find(&finding.measure);
    let unit = measure.map_or(fonex_core::measures::Unit::Ratio, |measure| measure.unit);
    let units = if finding.unit == DrawnUnit::Clip {
        Cell::Empty
    } else {
        Cell::text(output::plural(finding.units, finding.unit.as_str()))
    };
    [
        match (finding.less_than_matters, verdict(finding.verdict)) {
            (true, Cell::Verdict(sign, word)) => Cell::Verdict(sign, format!("{word}, less than matters")),
            (_, verdict) => verdict,
        },
        measure.map_or_else(|| Cell::text(finding.measure.as_str()), |m| Cell::Named(m.id, m.name_compared())),
        Cell::text(finding.slice.as_deref().unwrap_or("all")),
        Cell::Count(finding.clips),
        units,
        Cell::figure(unit, finding.first),
        Cell::figure(unit, finding.second),
        finding.difference.map_or(Cell::Empty, |difference| Cell::Difference(unit, difference, finding.interval)),
        finding.more_clips.map_or(Cell::Empty, Cell::Count),
        Cell::text(reason(finding)),
    ]
}

/// The verdict with a sign that reads without colour.
pub(in crate::commands) fn verdict(verdict: Verdict) -> Cell {
    Cell::Verdict(sign_of(verdict), verdict.as_str().to_owned())
}

/// A sign that reads without colour.
pub(super) const fn sign_of(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Better => "▼",
        Verdict::Worse => "▲",
        Verdict::Differs => "◆",
        Verdict::Alike => "=",
        Verdict::CannotTell => "?",
    }
}

/// The cells of a finding without further clips and reasons, which sentences say.
pub(super) fn finding_row(finding: &Finding) -> impl Iterator<Item = Cell> {
    let [verdict, measure, slice, clips, units, first, second, difference, ..] = finding_cells(finding);
    [verdict, measure, slice, clips, units, first, second, difference].into_iter()
}

/// The range of more clips needed, for a difference within one standard error of the one seen.
pub(crate) fn more_in_words(finding: &Finding) -> Option<String> {
    let more = finding.more_clips?;
    Some(match finding.more_clips_between {
        Some((few, Some(many))) if two_digits(few) == two_digits(many) => format!("about {}", two_digits(more)),
        Some((few, Some(many))) => format!("{} to {}", two_digits(few), two_digits(many)),
        Some((few, None)) => format!("{} or many more", two_digits(few)),
        None => format!("about {}", two_digits(more)),
    })
}

/// Rounds up to two significant digits.
fn two_digits(count: u64) -> u64 {
    let step = 10_u64.pow(count.max(1).ilog10().saturating_sub(1));
    count.div_ceil(step) * step
}

/// Why it cannot tell, where that is not a number of clips.
pub(super) fn reason(finding: &Finding) -> String {
    if let Some(why) = &finding.withheld {
        return why.clone();
    }
    match (finding.verdict, finding.interval, finding.more_clips) {
        (Verdict::CannotTell, None, _) => "too few clips for an interval".to_owned(),
        (Verdict::CannotTell, Some(_), None) if finding.difference == Some(0.0) => {
            "no difference observed".to_owned()
        }
        (Verdict::CannotTell, Some(_), None) => "more than a million".to_owned(),
        _ => String::new(),
    }
}

/// A finding in one sentence.
pub(in crate::commands) fn statement(comparison: &Comparison, finding: &Finding) -> Option<String> {
    let measure = find(&finding.measure)?;
    let lower = finding.difference? < 0.0;
    let says = measure.says[usize::from(!lower)];
    let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!(" on {}", slice.replace('=', " ")));
    let difference = |value: f64| fonex_report::figures::difference(measure.unit, value);
    let interval = finding
        .interval
        .map_or_else(String::new, |i| format!(", difference {} to {}", difference(i.low), difference(i.high)));
    let matters = finding.matters.map(|matters| figure(measure.unit, Some(matters)));
    if finding.verdict == Verdict::Alike {
        let within = matters.map_or_else(String::new, |matters| format!(" within {matters}"));
        return Some(format!(
            "{} and {} are alike in {}{slice}{within} over {}{interval}.",
            comparison.second,
            comparison.first,
            measure.name_compared(),
            output::plural(finding.clips, "clip"),
        ));
    }
    let less = finding.less_than_matters.then_some(matters).flatten();
    let less = less.map_or_else(String::new, |matters| format!("; less than {matters} does not matter"));
    Some(format!(
        "{} {says} {}{slice}: {} {} against {} over {}{interval}{less}.",
        comparison.second,
        comparison.first,
        measure.name_compared(),
        figure(measure.unit, finding.second),
        figure(measure.unit, finding.first),
        output::plural(finding.clips, "clip"),
    ))
}
