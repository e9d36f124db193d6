//! How alike the voices of a run sound: a table, and a map.

use fonex_analysis::{Likeness, Material, RunView, Side, likeness};
use fonex_formats::{Place, Problem};
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_store::Store;

use super::ShowOptions;
use crate::cli::Format;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

/// Voices that have room beside each other.
const MOST_VOICES: usize = 40;

pub(super) fn show_likeness(store: &Store, view: &RunView, options: &ShowOptions) -> Result<Code, Failure> {
    let mut sides: Vec<Side<'_>> = view
        .variants
        .iter()
        .filter(|variant| variant.variant.task == fonex_core::Task::Speak)
        .map(|variant| Side { run: view, variant, material: Material::Whole })
        .collect();
    if sides.len() > MOST_VOICES {
        let left_out = plural((sides.len() - MOST_VOICES) as u64, "voice");
        output::caution(&format!("{left_out} left out: the first {MOST_VOICES} are compared"));
        sides.truncate(MOST_VOICES);
    }
    let Some(found) = likeness(store, &sides)? else {
        let problem =
            Problem::new(format!("run {} has no two voices that speak the same text", view.name()), Place::default());
        return Err(problem.remedy("run a plan in which several voices speak one corpus").into());
    };
    match options.format.format {
        Format::Json => output::print_json(&found)?,
        Format::Table => {
            output::print(&output::text(&table(&found)))?;
        }
        form => output::print_table(&table(&found), form)?,
    }
    if let Some(path) = &options.output {
        output::write_chart(path, &plane_svg(&map(&found)))?;
    }
    Ok(Code::Done)
}

fn table(found: &Likeness) -> Table {
    let names = found.voices.iter().map(|name| (name.as_str(), 0));
    let mut table = Table::new(std::iter::once(("dB apart", 0)).chain(names)).titled("How alike the voices sound");
    for (at, (name, row)) in found.voices.iter().zip(&found.distances_db).enumerate() {
        let cells = row.iter().enumerate().map(
            |(other, apart)| {
                if other == at { Cell::Empty } else { Cell::Number(*apart, 1) }
            },
        );
        table.row(std::iter::once(Cell::text(name.as_str())).chain(cells));
    }
    table.noted(format!(
        "Mel-cepstral distance after alignment in time, mean over {}; 0 is the same sound.",
        plural(found.texts as u64, "text")
    ))
}

fn map(found: &Likeness) -> PlaneChart {
    let axis = |label: &str| PlaneAxis { label: label.to_owned(), ..PlaneAxis::default() };
    PlaneChart {
        title: "How alike the voices sound".to_owned(),
        x: axis("decibels"),
        y: axis("decibels"),
        series: vec![PlaneSeries {
            name: String::new(),
            points: found.places.clone(),
            labels: found.voices.clone(),
            form: PlaneForm::Marks,
            intervals: Vec::new(),
        }],
        guides: Vec::new(),
        equal_units: true,
        note: format!(
            "voices that lie close sound alike; distances are mel-cepstral, over {}, as well as a plane can show them",
            plural(found.texts as u64, "text")
        ),
    }
}
