//! What a comparison says, in sentences.

use fonex_core::findings::{Finding, Measure, Verdict};

use crate::analysis::{Comparison, Side};
use crate::commands::compare::{measured, signed};
use crate::output::plural;

pub(super) fn statements(comparisons: &[Comparison]) -> Vec<String> {
    let mut statements = Vec::new();
    for comparison in comparisons {
        for finding in comparison.findings.iter().filter(|finding| finding.verdict != Verdict::CannotTell) {
            statements.push(statement(comparison, finding));
        }
    }
    if statements.is_empty() && !comparisons.is_empty() {
        statements.push("No difference between the variants is beyond chance on these clips.".to_owned());
    }
    statements
}

fn statement(comparison: &Comparison, finding: &Finding) -> String {
    let better = finding.verdict == Verdict::Better;
    let (does, figure) = match (finding.measure, better) {
        (Measure::Wer, true) => ("gets fewer words wrong than", "WER"),
        (Measure::Wer, false) => ("gets more words wrong than", "WER"),
        (Measure::LatencyMs, true) => ("answers sooner than", "median"),
        (Measure::LatencyMs, false) => ("answers later than", "median"),
        (Measure::Rtf, true) => ("needs less time for a second of audio than", "median RTF"),
        (Measure::Rtf, false) => ("needs more time for a second of audio than", "median RTF"),
        (Measure::ClippedShare, true) => ("clips less than", "median share of samples"),
        (Measure::ClippedShare, false) => ("clips more than", "median share of samples"),
    };
    let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!(" on {}", slice.replace('=', " ")));
    let value = |value: Option<f64>| value.map_or_else(String::new, |value| measured(finding.measure, value));
    let interval = finding.interval.map_or_else(String::new, |i| {
        format!(", difference {} to {}", signed(finding.measure, i.low), signed(finding.measure, i.high))
    });
    format!(
        "{} {does} {}{slice}: {figure} {} against {} over {}{interval}.",
        comparison.second,
        comparison.first,
        value(finding.second),
        value(finding.first),
        plural(finding.clips, "clip"),
    )
}

pub(super) fn cautions(comparisons: &[Comparison], sides: &[Side<'_>]) -> Vec<String> {
    let mut cautions: Vec<String> = comparisons.iter().flat_map(|comparison| comparison.cautions.clone()).collect();
    for side in sides.iter().filter(|side| side.variant.failed() > 0) {
        let outcomes: Vec<String> =
            side.variant.outcomes.iter().map(|count| format!("{} {}", count.trials, count.outcome)).collect();
        cautions.push(format!("{}: {}", side.name(), outcomes.join(", ")));
    }
    for run in sides.iter().map(|side| side.run).filter(|run| !run.run.left_out.is_empty()) {
        let count = plural(run.run.left_out.len() as u64, "clip");
        cautions.push(format!("run {}: {count} could not be used", run.name()));
    }
    cautions.sort();
    cautions.dedup();
    cautions
}
