//! What went wrong, the must-hear terms, the confidences: the part of a score beyond its rates, as text.

use fonex_core::accuracy::{BestOf, ConfidenceReport, Marks, Mistakes, Score, TermCounts, TermReport};
use fonex_core::timing::Boundaries;

use fonex_core::measures::Unit;

use crate::output::{self, Cell, Table, percent, plural};

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
    let mut kinds = Table::new([("kind of mistake", 0), ("words", 0), ("share", 0), ("", 1)]);
    for count in &mistakes.kinds {
        let share = count.words as f64 / all as f64;
        let words = [Cell::text(count.kind.as_str()), Cell::Count(count.words), Cell::Figure(Unit::Share, share)];
        kinds.row(words.into_iter().chain([Cell::text(bar(share))]));
    }
    let mut text = format!("What went wrong\n{}", output::text(&kinds));
    let mut confused = Table::new([("said", 0), ("heard", 0), ("times", 0), ("kind", 2), ("such as", 1)]);
    for pair in mistakes.confused.iter().take(SHOWN) {
        let words = [&pair.said, &pair.heard].map(|word| Cell::text(word.as_str()));
        let rest = [Cell::Count(pair.times), Cell::text(pair.kind.as_str()), Cell::text(pair.clips.join(", "))];
        confused.row(words.into_iter().chain(rest));
    }
    if !confused.is_empty() {
        text += &format!("\nTaken for another\n{}", output::text(&confused));
    }
    let missed = mistakes.missed.iter().take(SHOWN).map(|m| format!("{} ({} of {})", m.word, m.times, m.said));
    text += &listed("Missed most", missed);
    let invented = mistakes.invented.iter().take(SHOWN).map(|i| format!("{} ({})", i.word, i.times));
    text += &listed("Invented most", invented);
    for (clips, what) in [
        (mistakes.lost_beginnings, "lost their beginning"),
        (mistakes.lost_ends, "lost their end"),
        (mistakes.words_over_silence, "had invented words although nobody speaks"),
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
    let mut table = Table::new([
        (what, 0),
        ("found", 0),
        ("missed", 0),
        ("invented", 0),
        ("precision", 1),
        ("recall", 1),
        ("F1", 2),
    ]);
    for (name, counts) in rows {
        let numbers = [counts.found, counts.missed, counts.invented].map(Cell::Count);
        let shares = [counts.precision, counts.recall, counts.f1].map(|share| Cell::figure(Unit::Share, share));
        table.row([Cell::text(name)].into_iter().chain(numbers).chain(shares));
    }
    output::text(&table)
}

fn marks(marks: &Marks) -> String {
    let named = |name: &str, counts: Option<TermCounts>| counts.map(|counts| (name.to_owned(), counts));
    let signs = marks.signs.iter().map(|sign| (format!("  {}", sign.sign), sign.counts));
    let punctuation = named("punctuation", marks.punctuation).into_iter().chain(signs);
    found_table("beside the words", punctuation.chain(named("capitals", marks.capitals)))
}

fn boundaries(cuts: &Boundaries) -> String {
    let columns = [("segments begin within", 0), ("found", 0), ("precision", 1), ("recall", 1), ("F1", 2)];
    let mut table = Table::new(columns);
    for within in &cuts.within {
        let shares = [within.precision, within.recall, within.f1].map(|share| Cell::figure(Unit::Share, share));
        let row = [Cell::text(format!("{} s", within.tolerance_s)), Cell::Count(within.found)];
        table.row(row.into_iter().chain(shares));
    }
    format!("{}beginnings: {} labelled, {} set by the engine\n", output::text(&table), cuts.labelled, cuts.heard)
}

fn confidence(report: &ConfidenceReport) -> String {
    let mut text = format!(
        "Confidence of {}: {} on average; {} of them right\n",
        plural(report.words, "word"),
        percent(Some(report.mean)),
        percent(Some(report.right))
    );
    let with_chance = percent(Some(report.calibration_error_with_chance));
    let error = percent(Some(report.calibration_error));
    text += &format!("calibration error {error} ({with_chance} with what chance adds)   Brier {:.3}", report.brier);
    if let Some(entropy) = report.normalised_cross_entropy {
        text += &format!("   normalised cross entropy {entropy:.3}");
    }
    text.push('\n');
    let mut bins = Table::new([("confidence", 0), ("words", 0), ("right", 0), ("", 1), ("too sure by", 0)]);
    for bin in report.bins.iter().filter(|bin| bin.words > 0) {
        bins.row([
            Cell::text(format!("{:.1} to {:.1}", bin.from, bin.from + 0.1)),
            Cell::Count(bin.words),
            Cell::Figure(Unit::Share, bin.right),
            Cell::text(bar(bin.right)),
            Cell::Difference(Unit::Share, bin.confidence - bin.right, None),
        ]);
    }
    text += &output::text(&bins);
    for wished in &report.thresholds {
        text += &match wished.confidence {
            Some(from) => format!(
                "{} of the words with a confidence of {from:.3} or more are right; they are {} of all words\n",
                percent(Some(wished.right)),
                percent(Some(wished.kept))
            ),
            None => format!("no confidence threshold makes {} right\n", percent(Some(wished.right))),
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
