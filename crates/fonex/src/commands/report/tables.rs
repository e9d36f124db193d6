//! The cells of the report's tables.

use fonex_core::accuracy::Score;
use fonex_core::findings::Verdict;
use fonex_core::latency::Percentiles;
use fonex_report::{CellTone, DataTable, TableCell};

use crate::analysis::{Comparison, CostSummary, SpeechSummary, VariantView};
use crate::commands::compare::{measure_name, measured, signed};
use crate::output::{milliseconds, money, percent, rate_with_interval, seconds};

pub(super) fn findings_table(comparisons: &[Comparison]) -> DataTable {
    let mut rows = Vec::new();
    for comparison in comparisons {
        for finding in &comparison.findings {
            let value = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), |v| measured(finding.measure, v));
            let interval = finding.interval.map_or_else(
                || "too few clips".to_owned(),
                |i| format!("{} to {}", signed(finding.measure, i.low), signed(finding.measure, i.high)),
            );
            let tone = if finding.verdict == Verdict::Worse { CellTone::Warn } else { CellTone::Wrap };
            let verdict = match (finding.verdict, finding.more_clips) {
                (Verdict::CannotTell, Some(more)) => format!("cannot tell; about {more} more clips would"),
                (verdict, _) => verdict.as_str().to_owned(),
            };
            rows.push(vec![
                plain(comparison.second.clone()),
                plain(comparison.first.clone()),
                plain(measure_name(finding.measure)),
                plain(finding.slice.clone().unwrap_or_else(|| "all".into())),
                number(finding.clips.to_string()),
                number(value(finding.second)),
                number(value(finding.first)),
                number(interval),
                TableCell { text: verdict, tone },
            ]);
        }
    }
    let header = [
        "Variant",
        "against",
        "Measure",
        "Clips of",
        "Clips",
        "Value",
        "Against",
        "Interval of the difference",
        "Verdict",
    ];
    DataTable {
        title: "Findings".into(),
        note: "Pairs of the same clips. Intervals and verdicts are 95 % over all findings of a table together."
            .into(),
        header: header.map(str::to_owned).to_vec(),
        rows,
    }
}

/// What every variant has: its name, its trials, its times.
pub(super) fn common_cells(name: &str, variant: &VariantView) -> Vec<TableCell> {
    let latency =
        |pick: fn(&Percentiles) -> f64| number(or_dash(variant.latency_ms.as_ref(), |l| milliseconds(pick(l))));
    vec![
        plain(name),
        number(variant.trials.to_string()),
        alarming(variant.failed().to_string(), variant.failed() > 0),
        latency(|l| l.p50),
        latency(|l| l.p95),
        number(or_dash(variant.rtf.as_ref(), |rtf| format!("{:.3}", rtf.p50))),
    ]
}

pub(super) fn heard_cells(variant: &VariantView) -> Vec<TableCell> {
    let of = |pick: fn(&Score) -> String| number(or_dash(variant.score.as_ref(), pick));
    vec![
        of(|s| s.clips.to_string()),
        of(|s| s.words.reference.to_string()),
        of(|s| rate_with_interval(s.words.wer, s.words.interval)),
        of(|s| or_dash(s.missing_as_empty.as_ref(), |all| percent(all.words.wer))),
        of(|s| percent(s.characters.cer)),
    ]
}

pub(super) fn spoken_cells(variant: &VariantView) -> Vec<TableCell> {
    let speech = variant.speech.as_ref();
    let of = |pick: fn(&SpeechSummary) -> String| number(or_dash(speech, pick));
    vec![
        of(|s| seconds(s.audio_s)),
        of(|s| or_dash(s.words_per_minute.as_ref(), |words| format!("{words:.0}"))),
        of(|s| or_dash(s.level_dbfs.as_ref(), |level| format!("{level:.1} dBFS"))),
        of(|s| or_dash(s.peak_dbfs.as_ref(), |peak| format!("{peak:.1} dBFS"))),
        alarming(
            or_dash(speech, |s| format!("{} of {}", s.clipped_clips, s.clips)),
            speech.is_some_and(|s| s.clipped_clips > 0),
        ),
    ]
}

pub(super) fn replied_cells(variant: &VariantView) -> Vec<TableCell> {
    vec![
        number(or_dash(variant.reply_words.as_ref(), |words| format!("{:.0}", words.p50))),
        number(or_dash(variant.first_ms.as_ref(), |first| milliseconds(first.p50))),
    ]
}

pub(super) fn cost_cells(name: &str, cost: &CostSummary) -> Vec<TableCell> {
    let amount = |amount: f64| number(money(amount, Some(&cost.currency)));
    vec![
        plain(name),
        number(cost.used.requests.to_string()),
        number(cost.used.characters.to_string()),
        number(format!("{:.2}", cost.used.audio_s / 60.0)),
        amount(cost.cost),
        amount(cost.per_trial),
        cost.per_correct_word.map_or_else(|| number("–"), amount),
    ]
}

fn or_dash<T>(value: Option<&T>, text: impl Fn(&T) -> String) -> String {
    value.map_or_else(|| "–".to_owned(), text)
}

fn alarming(text: String, alarm: bool) -> TableCell {
    TableCell { text, tone: if alarm { CellTone::Alarm } else { CellTone::Number } }
}

pub(super) fn plain(text: impl Into<String>) -> TableCell {
    TableCell { text: text.into(), tone: CellTone::Plain }
}

pub(super) fn number(text: impl Into<String>) -> TableCell {
    TableCell { text: text.into(), tone: CellTone::Number }
}
