//! The tables of a run: figures, slices, what is off the rest.

use fonex_analysis::{RunView, SliceView, VariantView};
use fonex_core::Task;
use fonex_core::accuracy::Measured;
use fonex_core::measures::{Better, Measure, all, find};

use crate::output::{Cell, Table};

/// A row for each figure there is: variant, slice, measure.
pub(super) fn every_figure(view: &RunView) -> Table {
    let mut table = Table::new([
        ("variant", 0),
        ("clips of", 0),
        ("measure", 0),
        ("unit", 0),
        ("clips", 0),
        ("rows", 0),
        ("value", 0),
    ]);
    for variant in &view.variants {
        let all = [("all".to_owned(), &variant.measures)].into_iter();
        let slices = variant.slices.iter().map(|slice| (format!("{}={}", slice.by, slice.value), &slice.measures));
        for (of, measures) in all.chain(slices) {
            for (measure, estimate) in measures.iter() {
                table.row([
                    Cell::text(variant.variant.name.as_str()),
                    Cell::text(of.as_str()),
                    Cell::text(measure.id),
                    Cell::text(measure.unit.as_str()),
                    Cell::Count(estimate.clips),
                    Cell::Count(estimate.rows),
                    Cell::Estimate(measure.unit, estimate.value, estimate.interval),
                ]);
            }
        }
    }
    table
}

/// Measures that stand beside a variant's name, by task.
const fn headlines(task: Task) -> &'static [&'static str] {
    match task {
        Task::Hear => &["wer", "latency_p50", "rtf"],
        Task::Speak => &["first_audible_p50", "latency_p50", "clipped_clips"],
        Task::Reply => &["first_piece_p50", "latency_p50", "reply_words"],
    }
}

/// The same of every task.
pub(super) fn headline_measures() -> Vec<&'static Measure> {
    let all = [Task::Hear, Task::Speak, Task::Reply].into_iter().flat_map(headlines);
    all.filter_map(|id| find(id)).collect()
}

/// One row a variant.
pub fn variants_table(variants: &[&VariantView]) -> Table {
    let task = variants.first().map_or(Task::Hear, |variant| variant.variant.task);
    let headlines: Vec<&Measure> = headlines(task).iter().filter_map(|id| find(id)).collect();
    let named = headlines.iter().map(|measure| (measure.name, 2));
    let columns = [("variant", 0), ("trials", 1), ("failed", 0), ("clips", 3)];
    let mut table = Table::new(columns.into_iter().chain(named));
    for variant in variants {
        let counts = [
            Cell::text(variant.variant.name.as_str()),
            Cell::Count(variant.extras.trials),
            Cell::Alarm(variant.failed()),
            Cell::Count(variant.clips),
        ];
        table.row(counts.into_iter().chain(headlines.iter().map(|measure| estimate_cell(variant, measure.id))));
    }
    table.without_empty_columns()
}

pub(super) fn estimate_cell(variant: &VariantView, id: &str) -> Cell {
    let found = find(id).zip(variant.measures.get(id));
    found.map_or(Cell::Empty, |(measure, estimate)| Cell::Estimate(measure.unit, estimate.value, estimate.interval))
}

/// Every measure that a variant has, a row each, and a column a variant.
pub fn measures_table(variants: &[&VariantView]) -> Table {
    let names = variants.iter().map(|variant| (variant.variant.name.as_str(), 0));
    let mut table = Table::new([("measure", 0)].into_iter().chain(names));
    for measure in all() {
        if variants.iter().any(|variant| worth_a_row(variant, measure)) {
            let cells = variants.iter().map(|variant| estimate_cell(variant, measure.id));
            table.row([Cell::Named(measure.id, measure.name)].into_iter().chain(cells));
        }
    }
    table
}

/// The same in as many tables as fit beside each other, each with as many variants as have room.
pub fn measures_tables(variants: &[&VariantView], width: usize) -> Vec<Table> {
    let mut tables = Vec::new();
    let mut rest = variants;
    while !rest.is_empty() {
        let fits = |count: &usize| measures_table(&rest[..*count]).least_width() <= width;
        let count = (1..=rest.len()).rev().find(fits).unwrap_or(1);
        tables.push(measures_table(&rest[..count]));
        rest = &rest[count..];
    }
    tables.retain(|table| !table.is_empty());
    let last =
        tables.pop().map(|table| table.noted("fonex measures ID explains a measure, such as fonex measures wil."));
    tables.into_iter().chain(last).collect()
}

/// What never happened, such as a failure of each kind, fills no row.
fn worth_a_row(variant: &VariantView, measure: &Measure) -> bool {
    let never = |value: f64| value == 0.0 && (measure.rare || measure.id.starts_with("outcome_"));
    variant.measures.get(measure.id).is_some_and(|estimate| !never(estimate.value))
}

/// Variants whose every measure has room beside each other.
pub(super) const MOST_SIDE_BY_SIDE: usize = 5;
/// Rows of what is off the rest.
const MOST_OFF: usize = 12;

/// Error rates that go up and down with the WER.
const LIKE_THE_FIRST: [&str; 7] =
    ["wer", "wer_as_written", "wer_failures_as_empty", "weighted_wer", "mer", "wil", "cer"];

/// A variant's name, its measures over all clips, and those of its slices.
pub type Sliced<'s> = (&'s str, &'s Measured, Vec<(&'s str, &'s str, &'s Measured)>);

/// Where a slice's interval leaves out the figure of all clips: the plainest first. Nothing is tested here; it is where to look.
pub fn off_the_rest<'s>(variants: impl Iterator<Item = Sliced<'s>>) -> Table {
    let mut off: Vec<(f64, [Cell; 5])> = Vec::new();
    for (variant, all, slices) in variants {
        for (by, value, measures) in slices {
            for (measure, estimate) in measures.iter() {
                let (Some(whole), Some(interval)) = (all.get(measure.id), estimate.interval) else { continue };
                // The first measure has a table of its own, and what repeats it says nothing new.
                if interval.holds(whole.value) || LIKE_THE_FIRST.contains(&measure.id) {
                    continue;
                }
                let width = interval.half_width().max(1e-9);
                let cells = [
                    Cell::text(variant),
                    Cell::text(format!("{by}={value}")),
                    Cell::Named(measure.id, measure.name),
                    Cell::Estimate(measure.unit, estimate.value, estimate.interval),
                    Cell::Figure(measure.unit, whole.value),
                ];
                off.push(((estimate.value - whole.value).abs() / width, cells));
            }
        }
    }
    off.sort_by(|a, b| b.0.total_cmp(&a.0));
    let columns = [("variant", 1), ("clips of", 0), ("measure", 0), ("figure", 0), ("of all clips", 0)];
    let mut table = Table::new(columns).titled("Slices that differ from the rest");
    let more = off.len().saturating_sub(MOST_OFF);
    off.into_iter().take(MOST_OFF).for_each(|(_, cells)| table.row(cells));
    if more > 0 { table.noted(format!("and {more} more; --format csv has all")) } else { table }
}

/// Slices by something with more values than this would fill the page.
const MOST_VALUES: usize = 12;

/// A slice with fewer clips says little; several of one tag are folded into a line.
const FEW_CLIPS_OF_A_SLICE: u64 = 5;
/// This many small slices of one tag are still shown.
const FEW_SMALL_ONES: usize = 3;

/// Which slices a page shows, by what is shared and clips, and a note on those that it folds.
pub fn folded(slices: &[(&str, u64)]) -> (Vec<bool>, String) {
    let small = |(_, clips): &&(&str, u64)| *clips < FEW_CLIPS_OF_A_SLICE;
    let small_ones = |by: &str| slices.iter().filter(small).filter(|(other, _)| *other == by).count();
    let mut notes: Vec<String> = Vec::new();
    let shown = slices.iter().map(|slice| {
        let count = small_ones(slice.0);
        if !small(&slice) || count <= FEW_SMALL_ONES {
            return true;
        }
        let note = format!("{count} of {}", slice.0);
        if !notes.contains(&note) {
            notes.push(note);
        }
        false
    });
    let shown = shown.collect();
    let note = if notes.is_empty() {
        String::new()
    } else {
        let few = FEW_CLIPS_OF_A_SLICE;
        format!("(slices of fewer than {few} clips are not shown: {}; --format csv has all)", notes.join(", "))
    };
    (shown, note)
}

/// The slices of variants of one task: one measure, else the first of the task, and where a slice is off the rest. Empty tables
/// are left out.
pub fn by_slice(variants: &[&VariantView], measure: Option<&'static Measure>) -> Vec<Table> {
    let off = off_the_rest(variants.iter().map(|variant| {
        let slices = variant.slices.iter().map(|slice| (slice.by.as_str(), slice.value.as_str(), &slice.measures));
        (variant.variant.name.as_str(), &variant.measures, slices.collect())
    }));
    [slices_table(variants, measure), off].into_iter().filter(|table| !table.is_empty()).collect()
}

/// Slices by one tag, the worst of the first variant first, with one measure of each variant.
pub(super) fn slices_by(variants: &[&VariantView], measure: Option<&'static Measure>, by: &str) -> Table {
    let Some(first) = variants.first() else { return Table::default() };
    let headline = || headlines(first.variant.task).iter().find_map(|id| find(id));
    let Some(measure) = measure.or_else(headline) else { return Table::default() };
    let names = variants.iter().map(|variant| (variant.variant.name.as_str(), 0));
    let mut table = Table::new([(by, 0), ("clips", 1)].into_iter().chain(names));
    let estimate = |variant: &VariantView, slice: &SliceView| {
        variant.same_slice(slice).and_then(|slice| slice.measures.get(measure.id)).cloned()
    };
    let worst = |slice: &SliceView| {
        let values = variants.iter().filter_map(|variant| Some(estimate(variant, slice)?.value));
        match measure.better {
            Better::Higher => -values.fold(f64::INFINITY, f64::min),
            _ => values.fold(f64::NEG_INFINITY, f64::max),
        }
    };
    let mut slices: Vec<&SliceView> = first.slices.iter().filter(|slice| slice.by == by).collect();
    slices.sort_by(|a, b| worst(b).total_cmp(&worst(a)));
    for slice in slices {
        let cells = variants.iter().map(|variant| {
            estimate(variant, slice).map_or(Cell::Empty, |one| Cell::Estimate(measure.unit, one.value, one.interval))
        });
        table.row([Cell::text(slice.value.as_str()), Cell::Count(slice.clips)].into_iter().chain(cells));
    }
    table.noted(format!("{} of the clips of each value, the worst first.", measure.name))
}

/// One row a slice, one column a variant: one measure.
fn slices_table(variants: &[&VariantView], measure: Option<&'static Measure>) -> Table {
    let Some(first) = variants.first() else { return Table::default() };
    let headline = || headlines(first.variant.task).iter().find_map(|id| find(id));
    let Some(measure) = measure.or_else(headline) else { return Table::default() };
    let names = variants.iter().map(|variant| (variant.variant.name.as_str(), 0));
    let table = Table::new([("clips of", 0), ("clips", 1)].into_iter().chain(names));
    let mut table = table.titled(format!("{} by slice", measure.name));
    let mut crowded: Vec<String> = Vec::new();
    let sizes: Vec<(&str, u64)> = first.slices.iter().map(|slice| (slice.by.as_str(), slice.clips)).collect();
    let (shown, note) = folded(&sizes);
    for (slice, shown) in first.slices.iter().zip(shown) {
        let values = first.slices.iter().filter(|other| other.by == slice.by).count();
        if values > MOST_VALUES {
            let named = format!("{} ({values} values)", slice.by);
            if !crowded.contains(&named) {
                crowded.push(named);
            }
            continue;
        }
        if !shown {
            continue;
        }
        let cell = |variant: &&VariantView| {
            let same = variant.same_slice(slice).and_then(|slice: &SliceView| slice.measures.get(measure.id));
            same.map_or(Cell::Empty, |estimate| Cell::Estimate(measure.unit, estimate.value, estimate.interval))
        };
        let size = [Cell::text(format!("{}={}", slice.by, slice.value)), Cell::Count(slice.clips)];
        table.row(size.into_iter().chain(variants.iter().map(cell)));
    }
    match crowded.is_empty() {
        true => table.noted(note),
        false => table.noted(format!("(not shown: {}; --format csv has all)", crowded.join(", "))),
    }
}
