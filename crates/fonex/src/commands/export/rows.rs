//! Trials, words, facts and figures, a line each.

use std::io::Write;

use fonex_analysis::{RunView, TrialLine, each_trial_line};
use fonex_core::measures::{Estimate, Measure, facts_of};
use fonex_store::Store;
use serde::Serialize;
use serde_json::{Map, Value};

use super::Form;
use crate::failure::Failure;

/// Takes rows, whose fields are named as the columns of their table.
pub trait Sink {
    fn line(&mut self, line: &impl Serialize) -> Result<(), Failure>;
}

/// What has a line each in a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rows {
    Trials,
    Words,
    Facts,
    Measures,
}

impl Rows {
    /// The names of the columns.
    pub const fn columns(self) -> &'static [&'static str] {
        match self {
            Self::Trials => &TrialLine::COLUMNS,
            Self::Words => &["clip", "variant", "repeat", "at", "edit", "said", "heard"],
            Self::Facts => &["clip", "variant", "trial", "fact", "rows"],
            Self::Measures => &[
                "run", "label", "variant", "slice", "measure", "unit", "better", "value", "low", "high", "clips",
                "units",
            ],
        }
    }

    /// Gives every row to a sink.
    pub fn each(self, store: &Store, view: &RunView, sink: &mut impl Sink) -> Result<(), Failure> {
        match self {
            Self::Trials => each_trial_line(store, view, false, |trial, _| sink.line(trial)),
            Self::Words => words(store, view, sink),
            Self::Facts => facts(store, view, sink),
            Self::Measures => measures(view, sink),
        }
    }

    /// Every row as JSON Lines or CSV.
    pub fn write(self, store: &Store, view: &RunView, form: Form, out: &mut dyn Write) -> Result<(), Failure> {
        let mut lines = Lines { out, form, columns: self.columns(), begun: false };
        lines.begin()?;
        self.each(store, view, &mut lines)
    }
}

/// Lines as JSON, or as CSV under the columns of the first.
struct Lines<'o> {
    out: &'o mut dyn Write,
    form: Form,
    columns: &'static [&'static str],
    begun: bool,
}

impl Sink for Lines<'_> {
    fn line(&mut self, line: &impl Serialize) -> Result<(), Failure> {
        if self.form != Form::Csv {
            serde_json::to_writer(&mut *self.out, line).map_err(std::io::Error::from)?;
            return Ok(self.out.write_all(b"\n")?);
        }
        self.begin()?;
        let Value::Object(fields) = serde_json::to_value(line).map_err(std::io::Error::from)? else { return Ok(()) };
        let cells = self.columns.iter().map(|column| cell(fields.get(*column)));
        self.record(cells)
    }
}

impl Lines<'_> {
    /// The header, also where no line follows.
    fn begin(&mut self) -> Result<(), Failure> {
        if self.form == Form::Csv && !std::mem::replace(&mut self.begun, true) {
            let columns = self.columns;
            self.record(columns.iter().map(|column| (*column).to_owned()))?;
        }
        Ok(())
    }

    fn record(&mut self, cells: impl Iterator<Item = String>) -> Result<(), Failure> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(cells).map_err(|error| std::io::Error::other(error.to_string()))?;
        let bytes = writer.into_inner().map_err(|error| std::io::Error::other(error.to_string()))?;
        Ok(self.out.write_all(&bytes)?)
    }
}

/// A field as a cell: words as they are, numbers plain, everything else as JSON.
fn cell(value: Option<&Value>) -> String {
    match value {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(words)) => words.clone(),
        Some(value) => value.to_string(),
    }
}

/// A word of a trial.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Word<'t> {
    clip: &'t str,
    variant: &'t str,
    repeat: u32,
    /// From 0, in reading order.
    at: usize,
    edit: fonex_core::align::Edit,
    #[serde(skip_serializing_if = "Option::is_none")]
    said: Option<&'t str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    heard: Option<&'t str>,
}

fn words(store: &Store, view: &RunView, lines: &mut impl Sink) -> Result<(), Failure> {
    each_trial_line(store, view, true, |trial: &TrialLine, steps| {
        for (at, step) in steps.iter().flatten().enumerate() {
            lines.line(&Word {
                clip: &trial.clip,
                variant: &trial.variant,
                repeat: trial.repeat,
                at,
                edit: step.edit,
                said: step.said.as_deref(),
                heard: step.heard.as_deref(),
            })?;
        }
        Ok(())
    })
}

/// What one trial contributes to a fact.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct FactLine<'f> {
    clip: &'f str,
    variant: &'f str,
    /// The place of the trial among those of its variant, from 0.
    trial: usize,
    fact: &'static str,
    rows: Vec<&'f [f64]>,
}

fn facts(store: &Store, view: &RunView, lines: &mut impl Sink) -> Result<(), Failure> {
    let clips = store.clips(&view.run.corpus_checksum)?;
    for variant in &view.variants {
        let own = fonex_core::measures::own().iter().map(|own| own.measure);
        let own = own.filter(|measure| measure.tasks.contains(&variant.variant.task)).map(|measure| measure.fact);
        for fact in facts_of(variant.variant.task).into_iter().chain(own) {
            let (column, places) = view.fact(store, variant, fact)?;
            for (trial, place) in places.iter().enumerate() {
                let rows = column.rows(trial);
                let Some(clip) = clips.get(*place as usize).filter(|_| !rows.is_empty()) else { continue };
                lines.line(&FactLine {
                    clip: &clip.id,
                    variant: &variant.variant.name,
                    trial,
                    fact: fact.id,
                    rows: rows.chunks(fact.width).collect(),
                })?;
            }
        }
    }
    Ok(())
}

/// Every figure of a run: its variant, its slice, its measure.
pub(super) fn each_figure<E>(
    view: &RunView,
    mut with: impl FnMut(&str, Option<(&str, &str)>, &'static Measure, &Estimate) -> Result<(), E>,
) -> Result<(), E> {
    for variant in &view.variants {
        let name = &variant.variant.name;
        for (measure, estimate) in variant.measures.iter() {
            with(name, None, measure, estimate)?;
        }
        for slice in &variant.slices {
            for (measure, estimate) in slice.measures.iter() {
                with(name, Some((&slice.by, &slice.value)), measure, estimate)?;
            }
        }
    }
    Ok(())
}

fn measures(view: &RunView, lines: &mut impl Sink) -> Result<(), Failure> {
    each_figure(view, |variant, slice, measure, estimate| {
        let mut line = Map::new();
        let mut put = |name: &str, value: Value| {
            if !value.is_null() {
                line.insert(name.to_owned(), value);
            }
        };
        put("run", view.run.id.into());
        put("label", view.run.label.clone().into());
        put("variant", variant.into());
        put("slice", slice.map(|(by, value)| format!("{by}={value}")).into());
        put("measure", measure.id.into());
        put("unit", measure.unit.as_str().into());
        put("better", serde_json::to_value(measure.better).unwrap_or_default());
        put("value", estimate.value.into());
        put("low", estimate.interval.map(|interval| interval.low).into());
        put("high", estimate.interval.map(|interval| interval.high).into());
        put("clips", estimate.clips.into());
        put("units", estimate.units.into());
        lines.line(&line)
    })
}
