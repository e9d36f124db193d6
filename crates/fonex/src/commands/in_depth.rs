//! What went wrong, the must-hear terms, the confidences: the part of a score beyond its rates, as text.

use fonex_core::accuracy::{BestOf, ConfidenceReport, Marks, Mistakes, Score, TermCounts, TermReport};
use fonex_core::timing::Boundaries;

use crate::output::{self, Table, percent, plural};

/// Slices whose word starts are off those of all words by less say nothing new.
const OFF_MS: f64 = 20.0;

/// Word starts against labels, a row a slice in which they are off those of all words, and a column a score.
pub fn starts_by_slice(scores: &[(String, &Score)]) -> Table {
    let columns = ["slice".to_owned()].into_iter();
    let mut table = Table::new(columns.chain(scores.iter().map(|(name, _)| format!(">{name}"))));
    let Some((_, first)) = scores.first() else { return table };
    for slice in &first.slices {
        let same = |score: &Score| score.same_slice(slice).and_then(|slice| slice.start);
        let off = |(_, score): &(String, &Score)| {
            same(score).zip(score.timing.as_ref()).is_some_and(|(here, all)| {
                (here.median_ms - all.start.median_ms).abs() >= OFF_MS
                    || here.p95_abs_ms >= all.start.p95_abs_ms + OFF_MS
            })
        };
        if !scores.iter().any(off) {
            continue;
        }
        let cell = |(_, score): &(String, &Score)| {
            same(score).map_or_else(
                || "–".to_owned(),
                |start| format!("{} ms / {:.0} ms", output::signed(start.median_ms, 0), start.p95_abs_ms),
            )
        };
        table.row([format!("{}={}", slice.by, slice.value)].into_iter().chain(scores.iter().map(cell)));
    }
    table
}

/// Rows shown of each list; JSON has more.
const SHOWN: usize = 8;
const BAR: usize = 20;

/// The sections that have something to say, each after an empty line.
pub fn in_depth(score: &Score) -> String {
    let sections = [
        score.mistakes.as_ref().map(mistakes),
        score.terms.as_ref().map(terms),
        score.marks.as_ref().map(marks),
        score.boundaries.as_ref().map(boundaries),
        score.confidence.as_ref().map(confidence),
        score.best_of.as_ref().map(best_of),
    ];
    sections.into_iter().flatten().map(|section| format!("\n{section}")).collect()
}

/// A share drawn as a bar that is readable without colour.
fn bar(share: f64) -> String {
    "▪".repeat((share * BAR as f64).round() as usize)
}

fn mistakes(mistakes: &Mistakes) -> String {
    let all: u64 = mistakes.kinds.iter().map(|count| count.words).sum();
    let mut kinds = Table::new(["kind of mistake", ">words", ">share", ""]);
    for count in &mistakes.kinds {
        let share = count.words as f64 / all as f64;
        kinds.row([count.kind.as_str().to_owned(), count.words.to_string(), percent(Some(share)), bar(share)]);
    }
    let mut text = format!("What went wrong\n{}", kinds.text());
    let mut confused = Table::new(["said", "heard", ">times", "kind", "such as"]);
    for pair in mistakes.confused.iter().take(SHOWN) {
        let cells = [&pair.said, &pair.heard].map(Clone::clone).into_iter();
        confused.row(cells.chain([pair.times.to_string(), pair.kind.as_str().to_owned(), pair.clips.join(", ")]));
    }
    if !confused.rows().is_empty() {
        text += &format!("\nTaken for another\n{}", confused.text());
    }
    let missed = mistakes.missed.iter().take(SHOWN).map(|m| format!("{} ({} of {})", m.word, m.times, m.said));
    text += &listed("Missed most", missed);
    let invented = mistakes.invented.iter().take(SHOWN).map(|i| format!("{} ({})", i.word, i.times));
    text += &listed("Invented most", invented);
    for (clips, what) in [
        (mistakes.lost_beginnings, "lost their beginning"),
        (mistakes.lost_ends, "lost their end"),
        (mistakes.words_over_silence, "had words invented though nobody speaks"),
    ] {
        if clips > 0 {
            text += &format!("{} {what}\n", plural(clips, "clip"));
        }
    }
    text
}

fn listed(title: &str, words: impl Iterator<Item = String>) -> String {
    let words: Vec<String> = words.collect();
    if words.is_empty() { String::new() } else { format!("{title}: {}\n", words.join(", ")) }
}

fn terms(report: &TermReport) -> String {
    let rows = report.terms.iter().take(SHOWN).map(|term| (term.term.clone(), term.counts));
    let mut text = found_table("must-hear term", std::iter::once(("all".to_owned(), report.all)).chain(rows));
    let more = report.terms.len().saturating_sub(SHOWN);
    if more > 0 {
        text += &format!("and {}\n", plural(more as u64, "further term"));
    }
    let (with, all) = (report.clips.with_all, report.clips.clips);
    text + &format!("{with} of {} had every term they list\n", plural(all, "clip"))
}

fn found_table(what: &str, rows: impl Iterator<Item = (String, TermCounts)>) -> String {
    let mut table = Table::new([what, ">found", ">missed", ">invented", ">precision", ">recall", ">F1"]);
    for (name, counts) in rows {
        let numbers = [counts.found, counts.missed, counts.invented].map(|n| n.to_string());
        let shares = [counts.precision, counts.recall, counts.f1].map(percent);
        table.row(std::iter::once(name).chain(numbers).chain(shares));
    }
    table.text()
}

fn marks(marks: &Marks) -> String {
    let named = |name: &str, counts: Option<TermCounts>| counts.map(|counts| (name.to_owned(), counts));
    let signs = marks.signs.iter().map(|sign| (format!("  {}", sign.sign), sign.counts));
    let punctuation = named("punctuation", marks.punctuation).into_iter().chain(signs);
    found_table("beside the words", punctuation.chain(named("capitals", marks.capitals)))
}

fn boundaries(cuts: &Boundaries) -> String {
    let mut table = Table::new(["segments begin within", ">found", ">precision", ">recall", ">F1"]);
    for within in &cuts.within {
        let shares = [within.precision, within.recall, within.f1].map(percent);
        let row = [format!("{} s", within.tolerance_s), within.found.to_string()];
        table.row(row.into_iter().chain(shares));
    }
    format!("{}beginnings: {} labelled, {} set by the engine\n", table.text(), cuts.labelled, cuts.heard)
}

fn confidence(report: &ConfidenceReport) -> String {
    let mut text = format!(
        "Confidence of {}: on average {}, right {}\n",
        plural(report.words, "word"),
        percent(Some(report.mean)),
        percent(Some(report.right))
    );
    text += &format!("calibration error {}   Brier {:.3}", percent(Some(report.calibration_error)), report.brier);
    if let (Some(entropy), Some(area)) = (report.normalised_cross_entropy, report.roc_area) {
        text += &format!("   normalised cross entropy {entropy:.3}   ROC area {area:.3}");
    }
    text.push('\n');
    let mut bins = Table::new(["confidence", ">words", ">right", "", ">too sure by"]);
    for bin in report.bins.iter().filter(|bin| bin.words > 0) {
        let gap = (bin.confidence - bin.right) * 100.0;
        let name = format!("{:.1} to {:.1}", bin.from, bin.from + 0.1);
        bins.row([name, bin.words.to_string(), percent(Some(bin.right)), bar(bin.right), format!("{gap:+.1} pts")]);
    }
    text += &bins.text();
    for wished in &report.thresholds {
        text += &match wished.confidence {
            Some(from) => format!(
                "{} right from a confidence of {from:.3}, which keeps {} of the words\n",
                percent(Some(wished.right)),
                percent(Some(wished.kept))
            ),
            None => format!("no confidence from which {} are right\n", percent(Some(wished.right))),
        };
    }
    text
}

fn best_of(best: &BestOf) -> String {
    format!(
        "Further readings of {}: WER {}, with the best of each {}; the right text came first {}, lower {}\n",
        plural(best.clips, "clip"),
        percent(best.wer),
        percent(best.best_wer),
        times(best.right_first),
        times(best.right_lower)
    )
}

fn times(count: u64) -> String {
    if count == 1 { "once".to_owned() } else { format!("{count} times") }
}
