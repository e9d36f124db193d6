//! `fonex measures`: what is measured, in which unit, from what, after which source.

use clap::Args;
use fonex_core::Task;
use fonex_core::measures::{Better, Matters, Measure, all, find};
use fonex_formats::{Place, Problem};
use serde::Serialize;

use super::tell_own_measures;
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, percent};
use fonex_report::figures::difference;

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  fonex measures
  fonex measures wer")]
pub struct MeasuresOptions {
    /// Measure to explain
    pub id: Option<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// A measure, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Listed {
    id: &'static str,
    name: &'static str,
    unit: &'static str,
    better: Better,
    task: Vec<Task>,
    about: &'static str,
    source: &'static str,
    explained: &'static str,
    compared_by_default: bool,
    /// The least difference that matters, unless the bench file sets one: an amount in the unit of the measure, or a share of the
    /// first figure.
    matters: Matters,
}

impl Listed {
    fn of(measure: &Measure) -> Self {
        let Measure { id, name, unit, better, tasks, about, source, explained, asked, matters, .. } = *measure;
        let unit = unit.as_str();
        Self {
            id,
            name,
            unit,
            better,
            task: tasks.to_vec(),
            about,
            source,
            explained,
            compared_by_default: asked,
            matters,
        }
    }
}

pub fn measures(options: &MeasuresOptions) -> Result<Code, Failure> {
    tell_own_measures(&options.bench);
    match &options.id {
        Some(id) => {
            let measure = find(id).ok_or_else(|| {
                let problem = Problem::new(format!("there is no measure \"{id}\""), Place::default());
                problem.expected("an id that fonex measures lists")
            })?;
            explain(measure, options.format.format)?;
        }
        None if options.format.format == Format::Json => {
            output::print_json(&all().map(Listed::of).collect::<Vec<_>>())?;
        }
        None => output::print_table(&table(), options.format.format)?,
    }
    Ok(Code::Done)
}

fn explain(measure: &Measure, form: Format) -> Result<(), Failure> {
    if form == Format::Json {
        return output::print_json(&Listed::of(measure));
    }
    let mut table = Table::new([(measure.id, 0), (measure.name, 0)]);
    let mut row = |name: &str, words: String| table.row([Cell::text(name), Cell::text(words)]);
    row("what it is", measure.explained.to_owned());
    row("from", measure.about.to_owned());
    row("unit", measure.unit.as_str().to_owned());
    row("better", better(measure).to_owned());
    row("task", tasks(measure));
    row("compared", if measure.asked { "by default" } else { "with --measure" }.to_owned());
    row(
        "matters",
        match measure.matters {
            Matters::Amount(amount) => difference(measure.unit, amount).trim_start_matches('+').to_owned(),
            Matters::Share(share) => format!("{} of the first figure", percent(Some(share))),
        },
    );
    if !measure.source.is_empty() {
        row("source", measure.source.to_owned());
    }
    output::print_table(&table, form)
}

fn better(measure: &Measure) -> &'static str {
    match measure.better {
        Better::Lower => "lower",
        Better::Higher => "higher",
        Better::Neither => "neither",
    }
}

fn tasks(measure: &Measure) -> String {
    measure.tasks.iter().map(|task| task.as_str()).collect::<Vec<_>>().join(", ")
}

fn table() -> Table {
    let mut table =
        Table::new([("id", 0), ("unit", 1), ("better", 0), ("task", 2), ("computed from", 0), ("source", 3)]);
    for measure in all() {
        table.row([
            Cell::text(measure.id),
            Cell::text(measure.unit.as_str()),
            Cell::text(better(measure)),
            Cell::text(tasks(measure)),
            Cell::text(measure.about),
            Cell::text(measure.source),
        ]);
    }
    table
}
