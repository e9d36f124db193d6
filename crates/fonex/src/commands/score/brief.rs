//! The answer of a score: the rate, the kind of mistake that costs most, and where.

use fonex_core::accuracy::{KindCount, MistakeKind, Mistakes, Score};
use fonex_core::measures::{Unit, find};
use fonex_core::stats::Interval;
use fonex_core::verdict::FEW_CLIPS;
use fonex_report::figures::figure;

use super::rate_cell;
use crate::brief::{Brief, names_in_words};
use crate::output::{self, Cell, Table, percent, plural, rate_with_interval};

/// Rows of the table of mistakes.
const MOST_KINDS: usize = 7;
/// Examples of one kind.
const MOST_EXAMPLES: usize = 3;
/// Slices named in the answer.
const MOST_SLICES: usize = 2;
/// Clips from which a slice is named.
const LEAST_CLIPS: u64 = 5;
/// Calibration error worth a line.
const MISCALIBRATED: f64 = 0.1;

/// The answer for one results file. `command` is the command line without options.
pub(super) fn brief(score: &Score, command: &str) -> Brief {
    let words = &score.words;
    let errors = words.substituted + words.deleted + words.inserted;
    let heading = match words.wer {
        Some(_) => format!(
            "WER {}: {} in {} of {}",
            rate_with_interval(words.wer, words.interval),
            plural(errors, "error"),
            plural(words.reference, "word"),
            plural(score.clips, "clip"),
        ),
        None => format!("No WER: no label of {} has a word", plural(score.clips, "clip")),
    };
    Brief {
        heading,
        answer: answer(score),
        tables: score.mistakes.iter().map(mistakes).collect(),
        notes: vec![format!("Text profile {}.", score.text_profile)],
        stands_out: stands_out(score),
        more: vec![
            format!("{command} --all"),
            "--explain ID (one clip's text step by step)".to_owned(),
            "--clips FILE (each clip)".to_owned(),
        ],
        ..Brief::default()
    }
}

fn answer(score: &Score) -> Vec<String> {
    let mut lines = Vec::new();
    let kinds: Vec<&KindCount> = score.mistakes.iter().flat_map(|mistakes| &mistakes.kinds).collect();
    match kinds.as_slice() {
        [] => lines.extend((score.words.wer == Some(0.0)).then(|| "Every word was heard right.".to_owned())),
        [only] => lines.push(format!("All errors are of one kind: {}.", only.kind.as_str())),
        [first, second, ..] => lines.push(format!(
            "Most errors are of the kinds {} ({}) and {} ({}).",
            first.kind.as_str(),
            plural(first.words, "word"),
            second.kind.as_str(),
            second.words,
        )),
    }
    let overall = score.words.wer.unwrap_or_default();
    let mut slices: Vec<(f64, String)> = score
        .slices
        .iter()
        .filter(|slice| slice.clips >= LEAST_CLIPS && slice.clips * 4 < score.clips * 3)
        .filter_map(|slice| {
            let wer = slice.words.wer.filter(|wer| *wer > overall)?;
            Some((wer, format!("{}={} ({})", slice.by, slice.value, percent(Some(wer)))))
        })
        .collect();
    slices.sort_by(|a, b| b.0.total_cmp(&a.0));
    if !slices.is_empty() {
        let named: Vec<String> = slices.into_iter().take(MOST_SLICES).map(|(_, name)| name).collect();
        lines.push(format!("The highest rates are on {}.", names_in_words(&named)));
    }
    let others: Vec<String> = ["cer", "words_within_50ms", "latency_p95"]
        .into_iter()
        .filter_map(|id| {
            let (measure, estimate) = (find(id)?, score.measures.get(id)?);
            Some(format!("{} {}", measure.name.replace(", ", " "), figure(measure.unit, Some(estimate.value))))
        })
        .collect();
    if !others.is_empty() {
        lines.push(format!("{}.", others.join(", ")));
    }
    lines
}

/// A row a kind, the most frequent first, with examples.
fn mistakes(mistakes: &Mistakes) -> Table {
    let mut table = Table::new([("kind of mistake", 0), ("words", 0), ("such as", 1)]);
    for count in mistakes.kinds.iter().take(MOST_KINDS) {
        table.row([
            Cell::text(count.kind.as_str()),
            Cell::Count(count.words),
            Cell::text(examples(mistakes, count.kind).join(", ")),
        ]);
    }
    let rest: u64 = mistakes.kinds.iter().skip(MOST_KINDS).map(|count| count.words).sum();
    if rest > 0 {
        table.row([Cell::text("other kinds"), Cell::Count(rest), Cell::Empty]);
    }
    table
}

fn examples(mistakes: &Mistakes, kind: MistakeKind) -> Vec<String> {
    let times = |times: u64| if times > 1 { format!(" {times} times") } else { String::new() };
    match kind {
        MistakeKind::Dropped | MistakeKind::DroppedRun => {
            let missed = mistakes.missed.iter().take(MOST_EXAMPLES);
            missed.map(|word| format!("{} {} of {}", word.word, word.times, word.said)).collect()
        }
        MistakeKind::Invented | MistakeKind::InventedRun | MistakeKind::Repeated => {
            let invented = mistakes.invented.iter().take(MOST_EXAMPLES);
            invented.map(|word| format!("{}{}", word.word, times(word.times))).collect()
        }
        _ => {
            let pairs = mistakes.confused.iter().filter(|pair| pair.kind == kind).take(MOST_EXAMPLES);
            pairs.map(|pair| format!("{} → {}{}", pair.said, pair.heard, times(pair.times))).collect()
        }
    }
}

fn stands_out(score: &Score) -> Vec<String> {
    let mut lines = Vec::new();
    if let Some(all) = &score.missing_as_empty {
        let missing = plural(score.missing.len() as u64, "clip");
        let wer = rate_with_interval(all.words.wer, all.words.interval);
        lines.push(format!("{missing} without a result; with these as empty the WER is {wer}"));
    }
    if let Some(terms) = score.terms.as_ref().filter(|terms| terms.all.missed > 0) {
        let missed: Vec<&str> =
            terms.terms.iter().filter(|term| term.counts.missed > 0).take(4).map(|term| term.term.as_str()).collect();
        let all = terms.all.found + terms.all.missed;
        lines.push(format!("{} of {all} must-hear terms were missed: {}", terms.all.missed, missed.join(", ")));
    }
    lines.extend(score.timing.as_ref().map(output::timing_notes).into_iter().flatten());
    if let Some(mistakes) = &score.mistakes {
        for (clips, what) in [
            (mistakes.words_over_silence, "had invented words although nobody speaks"),
            (mistakes.lost_beginnings, "lost their beginning"),
            (mistakes.lost_ends, "lost their end"),
        ] {
            if clips > 0 {
                lines.push(format!("{} {what}", plural(clips, "clip")));
            }
        }
    }
    if let (Some(written), Some(wer)) = (score.wer_as_written, score.words.wer)
        && written - wer > MISCALIBRATED
    {
        lines.push(format!("with case and punctuation the WER is {}", percent(Some(written))));
    }
    if let Some(error) = score.measures.get("calibration_error").filter(|error| error.value > MISCALIBRATED) {
        lines.push(format!("confidences are off by {}", percent(Some(error.value))));
    }
    if let Some(disputed) = &score.disputed {
        let clips = plural(disputed.clips, "clip");
        lines.push(format!("{clips} with a disputed label counted apart: WER {} there", percent(disputed.words.wer)));
    }
    if score.clips < FEW_CLIPS {
        lines.push(format!("only {}: intervals are rough", plural(score.clips, "clip")));
    }
    if let Some(speakers) = score.speakers {
        lines.push(match score.interval_by_speaker {
            Some(Interval { low, high }) => format!(
                "for speakers that were not recorded the WER is {} to {} ({speakers} speakers)",
                percent(Some(low)),
                percent(Some(high))
            ),
            None => format!("{} are too few for an interval over speakers (8)", plural(speakers, "speaker")),
        });
    }
    lines
}

/// The answer for several results files: a row each.
pub(super) fn several(scored: &[super::Scored], command: &str) -> Brief {
    let rate = |score: &Score| score.words.wer.unwrap_or(f64::INFINITY);
    let mut order: Vec<&super::Scored> = scored.iter().collect();
    order.sort_by(|a, b| rate(&a.score).total_cmp(&rate(&b.score)));
    let measures: Vec<_> =
        ["cer", "term_recall", "words_within_50ms", "latency_p95"].into_iter().filter_map(find).collect();
    let columns = [("results", 0), ("clips", 1), ("missing", 0), ("WER", 0)];
    let own = measures.iter().enumerate().map(|(at, measure)| (measure.name, at as u8));
    let mut table = Table::new(columns.into_iter().chain(own));
    for super::Scored { heard, score, .. } in scored {
        let missing = score.missing.len() as u64;
        let cells = [
            Cell::Address(heard.clone()),
            Cell::Count(score.clips),
            if missing == 0 { Cell::Empty } else { Cell::Alarm(missing) },
            rate_cell(&score.words),
        ];
        let figures = measures
            .iter()
            .map(|measure| Cell::figure(measure.unit, score.measures.get(measure.id).map(|estimate| estimate.value)));
        table.row(cells.into_iter().chain(figures));
    }
    let best = order.first().map_or_else(Vec::new, |best| {
        let wer = figure(Unit::Share, best.score.words.wer);
        vec![format!(
            "{} has the lowest WER, {wer}. Whether the differences are certain is not tested here.",
            best.heard
        )]
    });
    let clips = scored.iter().map(|one| one.score.clips).max().unwrap_or_default();
    Brief {
        heading: format!("{} files of results, {}", scored.len(), plural(clips, "clip")),
        answer: best,
        tables: vec![table.without_empty_columns()],
        more: vec![format!("{command} --all")],
        ..Brief::default()
    }
}
