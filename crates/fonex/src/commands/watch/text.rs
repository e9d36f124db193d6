//! A run as it goes, as text.

use fonex_analysis::{Progress, ProgressState};
use fonex_core::measures::find;
use fonex_report::figures::figure_with_interval;

use crate::output::{self, Cell, Table, milliseconds, plural, seconds, shortened};

/// How far it has come, in one sentence.
pub fn in_words(progress: &Progress) -> String {
    let mut words =
        format!("{}: {} of {}", progress.state.as_str(), progress.done, plural(progress.planned, "trial"));
    if progress.failed > 0 {
        words += &format!(", {} without an answer", progress.failed);
    }
    if progress.state == ProgressState::GoingOn && progress.done == 0 && progress.warm_up > 0 {
        words += ", warming up";
    }
    if let Some(pace) = progress.per_second {
        words += &format!(", {pace:.1} a second");
    }
    if let Some(left_s) = progress.left_s.filter(|left_s| *left_s > 0.0) {
        words += &format!(", about {} left", seconds(left_s.round()));
    }
    words
}

/// A row a variant.
pub fn variants_table(progress: &Progress) -> Table {
    let mut measures: Vec<&'static str> = Vec::new();
    for figure in progress.variants.iter().flat_map(|variant| &variant.figures) {
        if !measures.contains(&figure.measure) {
            measures.push(figure.measure);
        }
    }
    let measures: Vec<_> = measures.into_iter().filter_map(find).collect();
    let columns = [("variant", 0), ("trials", 0), ("outcomes", 2)];
    let mut table = Table::new(columns.into_iter().chain(measures.iter().map(|measure| (measure.name, 1))));
    for variant in &progress.variants {
        let outcomes: Vec<String> =
            variant.outcomes.iter().map(|count| format!("{} {}", count.trials, count.outcome)).collect();
        let figures = measures.iter().map(|measure| {
            let own = variant.figures.iter().find(|figure| figure.measure == measure.id);
            own.map_or(Cell::Empty, |own| {
                Cell::text(figure_with_interval(measure.unit, Some(own.value), own.interval))
            })
        });
        let first = [Cell::text(variant.name.as_str()), Cell::Count(variant.trials), Cell::text(outcomes.join(", "))];
        table.row(first.into_iter().chain(figures));
    }
    table
}

/// All of it, this many columns wide.
pub fn screen(progress: &Progress, width: usize) -> String {
    let label = progress.label.as_ref().map_or_else(String::new, |label| format!(" ({label})"));
    let mut text = format!("Run {}{label}, plan {}\n", progress.run, progress.plan);
    let room = width.clamp(20, 100);
    let filled = (progress.done as usize * room).checked_div(progress.planned as usize).unwrap_or(0).min(room);
    text += &format!("{}{}\n{}\n\n", "█".repeat(filled), "·".repeat(room - filled), in_words(progress));
    text += &output::text(&variants_table(progress));
    let mut recent = Table::new([("clip", 0), ("variant", 1), ("outcome", 0), ("took", 2), ("words", 3)]);
    for trial in &progress.recent {
        recent.row([
            Cell::text(trial.clip.as_str()),
            Cell::text(trial.variant.as_str()),
            Cell::text(trial.outcome.as_str()),
            trial.took_ms.map_or(Cell::Empty, |ms| Cell::text(milliseconds(ms))),
            Cell::text(shortened(trial.words.as_deref().unwrap_or_default(), room / 2)),
        ]);
    }
    text + "\nThe last trials\n" + &output::text(&recent)
}
