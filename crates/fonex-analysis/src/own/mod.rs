//! Measures of one's own: what every trial contributes to them, computed once and kept under the checksum of their definition.

mod program;
mod trial_line;

use std::collections::HashMap;

use fonex_core::material::Condition;
use fonex_core::measures::{How, OwnMeasure, own};
use fonex_core::text::TextProfile;
use fonex_store::{KeptFact, Run, Store, StoreError};

pub use trial_line::TrialLine;

use crate::column::Column;
use crate::facts::{Facts, chunk_name};
use crate::lines::{Lined, each_lined};

/// Computes what is not kept yet. Gives why a measure could not be computed; such a measure has no figure.
///
/// # Errors
/// When the store cannot be read.
pub(crate) fn gather(
    store: &Store,
    run: &Run,
    profile: &TextProfile,
    facts: &mut Facts,
) -> Result<Vec<String>, StoreError> {
    let mut missing: Vec<Gathering> = Vec::new();
    for (place, variant) in run.variants.iter().enumerate() {
        for own in own().iter().filter(|own| own.measure.tasks.contains(&variant.task)) {
            if facts.kept(store, place, &chunk_name(own.measure.fact.id, 0))?.is_none() {
                missing.push(Gathering { variant: place, own, column: Column::new(1) });
            }
        }
    }
    if missing.is_empty() {
        return Ok(Vec::new());
    }
    let mut problems: HashMap<&'static str, String> = HashMap::new();
    let mut unknown = unknown_fields(store, run, &missing)?;
    each_lined(store, run, profile, |lines| {
        for gathering in &mut missing {
            let id = gathering.own.measure.id;
            if problems.contains_key(id) {
                continue;
            }
            if let Err(problem) = gathering.add(&lines) {
                problems.insert(id, problem);
            }
        }
        Ok(())
    })?;
    let mut gathered = Vec::new();
    for gathering in missing {
        let id = gathering.own.measure.id;
        if let Some(field) = unknown.remove(id) {
            problems.insert(id, field);
        }
        if !problems.contains_key(id) {
            let (variant, fact) = (gathering.variant, chunk_name(gathering.own.measure.fact.id, 0));
            gathered.push(KeptFact { variant, fact, record: gathering.column.encode() });
        }
    }
    facts.keep_or_hold(store, gathered);
    let mut told: Vec<String> =
        problems.into_iter().map(|(id, why)| format!("{id} is not measured: {why}")).collect();
    told.sort();
    Ok(told)
}

/// One measure of one variant so far.
struct Gathering {
    variant: usize,
    own: &'static OwnMeasure,
    column: Column,
}

impl Gathering {
    /// Adds the numbers of some trials; those of other variants are passed over.
    fn add(&mut self, lines: &[Lined]) -> Result<(), String> {
        let trials: Vec<&Lined> = lines.iter().filter(|lined| lined.record.key.variant == self.variant).collect();
        let counts = |lined: &&Lined| {
            self.own.measure.fact.is_of(lined.record.outcome.is_answer())
                && self.own.of.as_ref().is_none_or(|of| of.holds(&lined.line))
        };
        let counted: Vec<bool> = trials.iter().map(counts).collect();
        let asked = trials.iter().zip(&counted).filter(|(_, counted)| **counted);
        let asked: Vec<&TrialLine> = asked.map(|(lined, _)| &lined.line).collect();
        let numbers: Vec<Option<f64>> = match &self.own.how {
            How::Holds(condition) => {
                asked.iter().map(|line| Some(f64::from(u8::from(condition.holds(*line))))).collect()
            }
            How::Program { argv, folder, time_limit_s } => program::ask(argv, folder, *time_limit_s, &asked)?,
        };
        let mut numbers = numbers.into_iter();
        for counted in counted {
            match if counted { numbers.next().flatten() } else { None } {
                Some(number) => self.column.push(&[number]),
                None => self.column.push(&[]),
            }
        }
        Ok(())
    }
}

/// Measures whose conditions look at a field that no trial has, with why.
fn unknown_fields(
    store: &Store,
    run: &Run,
    missing: &[Gathering],
) -> Result<HashMap<&'static str, String>, StoreError> {
    let sheet = crate::sheet::Sheet::load(store, &run.corpus_checksum)?;
    let mut unknown = HashMap::new();
    for gathering in missing {
        let holds = if let How::Holds(condition) = &gathering.own.how { Some(condition) } else { None };
        let fields = holds.into_iter().chain(&gathering.own.of).flat_map(Condition::fields);
        for field in fields {
            let is_tag = sheet.keys.iter().any(|key| key.by == field || key.by == format!("tags.{field}"));
            if !is_tag && TrialLine::names().all(|name| name != field) {
                let near = fonex_formats::nearest(field, TrialLine::names());
                let meant = near.map_or_else(String::new, |near| format!("; \"{near}\" is near it"));
                unknown.insert(gathering.own.measure.id, format!("no trial has the field or tag \"{field}\"{meant}"));
            }
        }
    }
    Ok(unknown)
}
