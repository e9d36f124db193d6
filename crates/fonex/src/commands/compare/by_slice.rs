//! Which variant for which slice, and what choosing by slice would gain.

use fonex_analysis::{Asked, BestBySlice, Side, best_by_slice, comparable};
use fonex_core::measures::find;
use fonex_core::verdict::{DrawnUnit, Verdict};
use fonex_formats::{Place, Problem};
use fonex_report::figures::{difference_with_interval, figure};
use fonex_report::folded_under;
use fonex_store::Store;

use super::Named;
use crate::cli::Format;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

pub(super) fn print_by_slice(
    store: &Store,
    named: &[Named],
    asked: &Asked,
    by: &str,
    form: Format,
) -> Result<Code, Failure> {
    let sides: Vec<Side<'_>> = named.iter().flat_map(Named::sides).collect();
    let mut all = Vec::new();
    for group in comparable(&sides).into_iter().filter(|group| group.len() > 1) {
        let corpus = &group[0].run.run.corpus_checksum;
        if let Some(other) = group.iter().find(|side| side.run.run.corpus_checksum != *corpus) {
            let what = format!("{} is of another corpus than {}", other.name(), group[0].name());
            return Err(Problem::new(what, Place::default()).expected("variants of one corpus").into());
        }
        for measure in asked.measures.iter().filter(|m| m.tasks.contains(&group[0].variant.variant.task)) {
            all.extend(best_by_slice(store, &group, measure, by, asked.unit)?);
        }
    }
    if all.is_empty() {
        let problem = Problem::new("no clip was answered by all of these variants", Place::default());
        return Err(problem.expected("two variants or more that do the same, over the same clips").into());
    }
    match form {
        Format::Json => output::print_json(&all)?,
        Format::Table => output::print_lines(&all.iter().map(page).collect::<String>())?,
        form => {
            for best in &all {
                output::print_table(&table(best), form)?;
            }
        }
    }
    Ok(Code::Done)
}

fn page(best: &BestBySlice) -> String {
    let measure = find(&best.measure);
    let name = measure.map_or(best.measure.as_str(), |measure| measure.name);
    let unit = measure.map_or(fonex_core::measures::Unit::Ratio, |measure| measure.unit);
    let mut text = format!("{name} by {}, over {}\n", best.by, plural(best.clips, "clip"));
    text += &output::text(&table(best).without(&["measure"]));
    text += &format!("best single one: {}, {}\n", best.single, figure(unit, Some(best.single_figure)));
    let gain = match (best.chosen_figure, best.held_out_single, best.gain) {
        (Some(chosen), Some(single), Some(gain)) => {
            let says = match (best.verdict, best.interval) {
                (Verdict::Better, _) => "choosing is better",
                (Verdict::Worse, _) => "choosing is worse",
                (_, None) => "too few units for an interval",
                _ => "cannot tell",
            };
            format!(
                "Choosing by {}, on clips that had no say in the choice: {} against {} of the best single one, difference {}: {says}.",
                best.by,
                figure(unit, Some(chosen)),
                figure(unit, Some(single)),
                difference_with_interval(unit, gain, best.interval),
            )
        }
        _ => "Too few clips to say what choosing would gain.".to_owned(),
    };
    text += &folded_under(&gain, output::width(), 2);
    if best.unit != DrawnUnit::Clip {
        text += &format!("Unit of sampling: {}s.\n", best.unit.as_str());
    }
    text + "\n"
}

fn table(best: &BestBySlice) -> Table {
    let measure = find(&best.measure);
    let unit = measure.map_or(fonex_core::measures::Unit::Ratio, |measure| measure.unit);
    let mut table = Table::new([
        ("measure", 1),
        ("clips of", 0),
        ("clips", 0),
        ("best", 0),
        ("its figure", 0),
        ("best single one there", 0),
    ]);
    for choice in &best.choices {
        table.row([
            measure.map_or(Cell::Empty, |measure| Cell::Named(measure.id, measure.name)),
            Cell::text(format!("{}={}", best.by, choice.value)),
            Cell::Count(choice.clips),
            Cell::text(choice.best.as_str()),
            Cell::Figure(unit, choice.figure),
            Cell::Figure(unit, choice.of_single),
        ]);
    }
    table
}
