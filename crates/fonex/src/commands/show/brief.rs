//! The answer about a run: which variant is best at what matters, and a table of them.

use fonex_analysis::{
    Asked, Comparison, Material, Natural, RunView, Side, SliceView, VariantView, VoiceCard, all_pairs, by_kind,
    comparable, compare,
};
use fonex_core::Task;
use fonex_core::measures::{Mattering, Measure, find, own};
use fonex_report::figures::figure_with_interval;
use fonex_store::{RunState, Store};

use super::KINDS;
use super::stands_out::{faults, stands_out};
use super::tables::estimate_cell;
use crate::brief::{Brief, MEDIAN, names_in_words, quoted, ranking};
use crate::failure::Failure;
use crate::output::{Cell, Table, percent, plural};

/// Pairs that are compared for the answer. Of more variants the figures are listed without verdicts.
const MOST_PAIRS: usize = 120;
/// Trials in all that are compared for the answer.
const MOST_TRIALS: u64 = 200_000;

/// Columns of a task, the most important first. Measures of equal meaning are left to `--all`.
const fn columns(task: Task) -> &'static [&'static str] {
    match task {
        Task::Hear => &[
            "wer",
            "term_recall",
            "words_within_50ms",
            "latency_p50",
            "latency_p95",
            "live_settled_p50",
            "live_final_p50",
            "rtf",
            "cost_per_audio_minute",
        ],
        Task::Speak => &["pace", "pitch_range_st", "first_audible_p50", "cost_per_audio_minute"],
        Task::Reply => &["first_piece_p50", "latency_p50", "latency_p95", "reply_words", "cost_per_audio_minute"],
    }
}
/// Measures by which a kind of variant is ranked in the answer.
const fn ranked_by(task: Task) -> &'static [&'static str] {
    match task {
        Task::Hear => &["wer", "latency_p50"],
        Task::Speak => &["first_audible_p50"],
        Task::Reply => &["first_piece_p50"],
    }
}

/// Columns of shipped measures that give way one after the other where there is little room.
const MOST_COLUMNS: usize = 9;

/// The answer about a run.
pub(super) fn brief(
    store: &Store,
    view: &RunView,
    natural: &[Natural],
    matters: &Mattering,
) -> Result<Brief, Failure> {
    let sides: Vec<Side<'_>> =
        view.variants.iter().map(|variant| Side { run: view, variant, material: Material::Whole }).collect();
    let comparisons = compared(store, view, &sides, matters)?;
    let [recognisers, synthesisers, heard, responders] = by_kind(&sides);
    let several = [&recognisers, &synthesisers, &responders].iter().filter(|kind| !kind.is_empty()).count() > 1;
    let mut brief = Brief { heading: heading(view), ..Brief::default() };
    for (kind, title) in [(&recognisers, KINDS[0]), (&synthesisers, KINDS[1]), (&responders, KINDS[3])] {
        let Some(first) = kind.first() else { continue };
        let task = first.variant.variant.task;
        let table = if task == Task::Speak { voices_table(view, natural) } else { variants_by_what_matters(kind) };
        brief.tables.push(if several { table.titled(title) } else { table });
        if task == Task::Speak {
            brief.answer.extend(voices_heard(&heard, &comparisons));
            brief.answer.extend(faulty_voices(view));
        }
        if kind.len() == 1 && (task != Task::Speak || heard.is_empty()) {
            brief.answer.extend(of_one(first.variant).into_iter().filter(|_| !several));
        } else if brief.answer.len() < 4 {
            brief.answer.extend(best(kind, &comparisons));
        }
    }
    brief.answer.extend(without_answers(view));
    brief.notes = notes(view, natural);
    brief.stands_out = stands_out(store, view, &sides)?;
    brief.more = more(view);
    Ok(brief)
}

/// All pairs of variants that do the same, as one family; none where there are too many.
fn compared(
    store: &Store,
    view: &RunView,
    sides: &[Side<'_>],
    matters: &Mattering,
) -> Result<Vec<Comparison>, Failure> {
    let pairs = all_pairs(sides);
    let trials: u64 = view.variants.iter().map(|variant| variant.extras.trials).sum();
    if pairs.len() > MOST_PAIRS || trials > MOST_TRIALS {
        return Ok(Vec::new());
    }
    Ok(compare(store, &pairs, &Asked { matters: matters.clone(), ..Asked::default() })?)
}

pub(super) fn heading(view: &RunView) -> String {
    let run = &view.run;
    let of = |number: usize, what: &str| plural(number as u64, what);
    let clips = view.variants.iter().map(|variant| variant.clips).max().unwrap_or_default();
    let voices = view.variants.iter().filter(|variant| variant.variant.hears.is_none()).count();
    let failed: u64 = view.variants.iter().map(VariantView::failed).sum();
    let trials: u64 = view.variants.iter().map(|variant| variant.extras.trials).sum();
    let label = run.label.as_ref().map_or_else(String::new, |label| format!(" ({label})"));
    let failures = if failed == 0 { "no failures".to_owned() } else { format!("{failed} of {trials} trials failed") };
    let state = match run.state {
        RunState::Finished => "",
        RunState::Unfinished => ", unfinished",
    };
    let commit = run.commit.as_ref().map_or_else(String::new, |commit| format!(", commit {commit}"));
    let started = run.started_at.get(..16).unwrap_or(&run.started_at).replace('T', " ");
    let only = view.r#where.as_ref().map_or_else(String::new, |only| format!(", where {only}"));
    format!(
        "Run {}{label}, plan {}{only}: {}, {}, {started}{commit}{state}, {failures}",
        run.id,
        run.plan,
        plural(clips, "clip"),
        of(voices, "variant"),
    )
}

/// A row a variant, with the measures that matter for its task.
pub fn variants_by_what_matters(sides: &[Side<'_>]) -> Table {
    let task = sides.first().map_or(Task::Hear, |side| side.variant.variant.task);
    let shipped = columns(task).iter().filter_map(|id| find(id));
    // Whoever defines a measure wants to see it.
    let measures: Vec<&'static Measure> =
        shipped.chain(own().iter().map(|own| own.measure).filter(|own| own.tasks.contains(&task))).collect();
    let named = measures
        .iter()
        .enumerate()
        .map(|(rank, measure)| (short(measure), if rank < MOST_COLUMNS { rank as u8 } else { 1 }));
    let mut table = Table::new([("variant", 0), ("failed", 0)].into_iter().chain(named));
    for side in sides {
        let failed = side.variant.failed();
        let counts = [
            Cell::text(side.variant.variant.name.as_str()),
            if failed == 0 { Cell::Empty } else { Cell::Alarm(failed) },
        ];
        let first = measures.iter().take(1).map(|measure| estimate_cell(side.variant, measure.id));
        let others = measures.iter().skip(1).map(|measure| figure_cell(side.variant, measure));
        table.row(counts.into_iter().chain(first).chain(others));
    }
    table.without_empty_columns()
}

/// The head of a column: of a median the name alone, which a note explains.
fn short(measure: &Measure) -> &'static str {
    measure.name.strip_suffix(MEDIAN).unwrap_or(measure.name)
}

/// A figure without its interval, which `--all` has.
fn figure_cell(variant: &VariantView, measure: &Measure) -> Cell {
    Cell::figure(measure.unit, variant.measures.get(measure.id).map(|estimate| estimate.value))
}

/// A row a voice: how it is understood, how it sounds, and what is wrong with it. A last row for recordings.
pub fn voices_table(view: &RunView, natural: &[Natural]) -> Table {
    let cards = VoiceCard::of(view);
    let mut listeners: Vec<&str> = Vec::new();
    for (name, _) in cards.iter().flat_map(|card| &card.heard_by) {
        if !listeners.contains(&name.as_str()) {
            listeners.push(name);
        }
    }
    let measures: Vec<&'static Measure> = columns(Task::Speak).iter().filter_map(|id| find(id)).collect();
    let heard: Vec<String> = match listeners.as_slice() {
        [_] => vec!["WER heard".to_owned()],
        several => several.iter().map(|name| format!("WER by {name}")).collect(),
    };
    let heard = heard.iter().map(|name| (name.as_str(), 0));
    let own = measures.iter().enumerate().map(|(rank, measure)| (short(measure), rank as u8 + 1));
    let columns = [("voice", 0), ("failed", 0)].into_iter().chain(heard).chain(own).chain([("remarks", 0)]);
    let mut table = Table::new(columns);
    let wer_of = |estimate: Option<&fonex_core::measures::Estimate>| {
        let found = find("wer").zip(estimate);
        found.map_or(Cell::Empty, |(wer, one)| Cell::Estimate(wer.unit, one.value, one.interval))
    };
    for card in &cards {
        let failed = card.voice.failed();
        let heard = listeners.iter().map(|listener| {
            let by = card.heard_by.iter().find(|(name, _)| name == listener);
            wer_of(by.and_then(|(_, variant)| variant.measures.get("wer")))
        });
        let own = measures.iter().map(|measure| figure_cell(card.voice, measure));
        let mut remarks = faults(card.voice);
        remarks.extend(card.in_words().iter().map(|word| (*word).to_owned()));
        let remarks = if remarks.is_empty() { Cell::Empty } else { Cell::text(remarks.join(", ")) };
        let counts = [
            Cell::text(card.voice.variant.name.as_str()),
            if failed == 0 { Cell::Empty } else { Cell::Alarm(failed) },
        ];
        table.row(counts.into_iter().chain(heard).chain(own).chain([remarks]));
    }
    if !natural.is_empty() {
        let heard = listeners.iter().map(|listener| {
            wer_of(natural.iter().find(|natural| natural.recogniser == *listener).map(|natural| &natural.wer))
        });
        let rest = std::iter::repeat_n(Cell::Empty, measures.len() + 1);
        table.row([Cell::text("recordings"), Cell::Empty].into_iter().chain(heard).chain(rest));
    }
    table.without_empty_columns()
}

/// Which voice each recogniser understands best.
fn voices_heard(heard: &[Side<'_>], comparisons: &[Comparison]) -> Vec<String> {
    let Some(wer) = find("wer") else { return Vec::new() };
    let groups = comparable(heard);
    let several = groups.len() > 1;
    let mut lines = Vec::new();
    for group in groups {
        let listener = group[0].variant.variant.name.rsplit_once(" by ").map(|(_, listener)| listener.to_owned());
        let named: Vec<(String, Side<'_>)> = group.iter().map(|side| (voice_of(side), *side)).collect();
        let ranked = ranking(wer, &named, comparisons).map(|ranking| ranking.sentences());
        let own = ranked.unwrap_or_else(|| of_one(group[0].variant));
        match listener.filter(|_| several) {
            Some(listener) => lines.push(format!("Heard by {listener}: {}", own.join(" "))),
            None => lines.extend(own),
        }
    }
    lines
}

/// The name of the voice that a recogniser hears.
fn voice_of(side: &Side<'_>) -> String {
    let voice = side.variant.variant.hears.and_then(|place| side.run.variants.get(place));
    let whole = || side.variant.variant.name.clone();
    let found = side.run.variants.iter().find(|other| Some(other.place) == side.variant.variant.hears);
    found.or(voice).map_or_else(whole, |voice| voice.variant.name.clone())
}

/// Voices with faults that every listener hears.
fn faulty_voices(view: &RunView) -> Option<String> {
    let voices = view.variants.iter().filter(|variant| variant.variant.task == Task::Speak);
    let with_faults = voices.filter_map(|voice| {
        let faults = faults(voice);
        let languages = by_language(view, voice).filter(|_| voice.extras.other_language > 0).unwrap_or_default();
        (!faults.is_empty()).then(|| format!("{} {}{languages}", voice.variant.name, names_in_words(&faults)))
    });
    let named: Vec<String> = with_faults.collect();
    match named.len() {
        0 => None,
        1..=3 => Some(format!("{}.", named.join("; "))),
        many => Some(format!("{many} voices have faults.")),
    }
}

/// What a recogniser makes of a voice in each language.
fn by_language(view: &RunView, voice: &VariantView) -> Option<String> {
    let heard = view.variants.iter().find(|other| other.variant.hears == Some(voice.place))?;
    let of = |slice: &SliceView| {
        let wer = slice.measures.get("wer").filter(|_| slice.by == "lang")?;
        Some(format!("{} {}", slice.value, percent(Some(wer.value))))
    };
    let languages: Vec<String> = heard.slices.iter().filter_map(of).collect();
    (languages.len() > 1).then(|| format!(" (WER {})", languages.join(", ")))
}

/// The best of a kind in each measure it is ranked by.
fn best(kind: &[Side<'_>], comparisons: &[Comparison]) -> Vec<String> {
    let task = kind.first().map_or(Task::Hear, |side| side.variant.variant.task);
    let named: Vec<(String, Side<'_>)> = kind.iter().map(|side| (side.variant.variant.name.clone(), *side)).collect();
    let measures: Vec<&'static Measure> = ranked_by(task).iter().filter_map(|id| find(id)).collect();
    let rankings: Vec<_> = measures.iter().filter_map(|measure| ranking(measure, &named, comparisons)).collect();
    let Some((first, rest)) = rankings.split_first() else {
        let with_figures =
            kind.iter().find(|side| measures.iter().any(|m| side.variant.measures.get(m.id).is_some()));
        return with_figures.map_or_else(Vec::new, |side| of_one(side.variant));
    };
    let mut lines = first.sentences();
    for ranking in rest {
        // The same variant again needs no sentence of its own about the others.
        lines.extend(ranking.sentences().into_iter().take(1));
    }
    lines
}

/// The figures of the only variant of its kind.
fn of_one(variant: &VariantView) -> Vec<String> {
    let told = columns(variant.variant.task).iter().filter_map(|id| {
        let (measure, estimate) = (find(id)?, variant.measures.get(id)?);
        let figure = figure_with_interval(measure.unit, Some(estimate.value), estimate.interval);
        Some(match measure.name.strip_suffix(MEDIAN) {
            Some(name) => format!("median {name} {figure}"),
            None => format!("{} {figure}", measure.name),
        })
    });
    let told: Vec<String> = told.take(3).collect();
    if told.is_empty() {
        let why = if variant.failed() == variant.extras.trials {
            "no trial has an answer"
        } else {
            "the answers have nothing to measure against these labels"
        };
        return vec![format!("{} has no figures: {why}.", variant.variant.name)];
    }
    vec![format!("{}: {} on {}.", variant.variant.name, names_in_words(&told), plural(variant.clips, "clip"))]
}

/// Trials without an answer, which no rate over the others shows.
fn without_answers(view: &RunView) -> Option<String> {
    let failing = view.variants.iter().filter(|variant| variant.failed() > 0);
    let named: Vec<String> = failing
        .map(|variant| {
            let as_empty = variant.measures.get("wer_failures_as_empty");
            let as_empty = as_empty
                .map_or_else(String::new, |all| format!(" (WER {} with these as empty)", percent(Some(all.value))));
            format!("{} {} of {}{as_empty}", variant.variant.name, variant.failed(), variant.extras.trials)
        })
        .collect();
    match named.as_slice() {
        [] => None,
        few if few.len() <= 3 => Some(format!("Without an answer: {}.", few.join("; "))),
        many => Some(format!("{} variants have trials without an answer.", many.len())),
    }
}

/// Terms that not every reader knows, where they appear.
fn notes(view: &RunView, natural: &[Natural]) -> Vec<String> {
    let mut notes = Vec::new();
    if !natural.is_empty() {
        let from: Vec<String> =
            natural.iter().map(|natural| format!("{} in run {}", natural.recogniser, natural.run)).collect();
        notes.push(format!("Recordings: the same texts, heard by {}", names_in_words(&from)));
    }
    let medians = ["latency_p50", "first_piece_p50", "first_audible_p50", "pace", "rtf"];
    let has_medians = |variant: &VariantView| medians.iter().any(|id| variant.measures.get(id).is_some());
    notes.push(if view.variants.iter().any(has_medians) {
        "Times, RTF, pace and pitch are medians where no percentile is named; intervals are 95 %".to_owned()
    } else {
        "Intervals are 95 %".to_owned()
    });
    if view.variants.len() > 1 {
        notes.push("\"certainly\" holds at 95 % for all pairs of variants together".to_owned());
    }
    vec![notes.join(". ") + "."]
}

/// The commands that show more of this run.
fn more(view: &RunView) -> Vec<String> {
    let run = quoted(&view.run.label.clone().unwrap_or_else(|| view.run.id.to_string()));
    let only = view.r#where.as_ref().map_or_else(String::new, |only| format!(" --where {}", quoted(only)));
    let run = format!("{run}{only}");
    let mut more = Vec::new();
    let kinds =
        |task: Task| view.variants.iter().filter(|v| v.variant.task == task && v.variant.hears.is_none()).count();
    let tag = view.sheet().keys.iter().find(|key| (2..=6).contains(&key.values.len()));
    if kinds(Task::Hear) > 1 || view.variants.len() > 2 {
        more.push(match tag {
            Some(tag) => format!("fonex compare {run} --by {}", quoted(&tag.by)),
            None => format!("fonex compare {run}"),
        });
    }
    if kinds(Task::Hear) > 0 {
        more.push(format!("fonex show {run} --worst 5"));
    }
    if kinds(Task::Speak) > 1 {
        more.push(format!("fonex show {run} --likeness"));
    }
    more.push(format!("fonex show {run} --all"));
    more.push(format!("fonex report {run}"));
    more
}
