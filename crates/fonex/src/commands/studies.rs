//! Studies in the store: kept when they are made, found again for printing and for reports.

use fonex_formats::{Place, Problem};
use fonex_store::{Store, Study, StudyKind};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::failure::Failure;
use fonex_run::{now, this_machine};

/// Keeps what a command measured; gives its number.
pub fn keep_study(store: &Store, kind: StudyKind, figures: &impl Serialize) -> Result<i64, Failure> {
    let figures = serde_json::to_value(figures)
        .map_err(|error| Problem::new(format!("the figures cannot be kept: {error}"), Place::default()))?;
    let study = Study {
        kind,
        made_at: now(),
        machine: this_machine(),
        fonex_version: env!("CARGO_PKG_VERSION").to_owned(),
        figures,
    };
    Ok(store.add_study(&study)?)
}

/// A stored study with its figures read.
pub struct Found<T> {
    pub id: i64,
    pub study: Study,
    pub figures: T,
}

/// The study a person named, by its number or as `last`.
pub fn find_study<T: DeserializeOwned>(store: &Store, kind: StudyKind, typed: &str) -> Result<Found<T>, Failure> {
    let what = kind.as_str();
    let number = match typed {
        "last" => None,
        _ => Some(typed.parse().map_err(|_| {
            Problem::new(format!("there is no study \"{typed}\""), Place::default())
                .expected("a number that fonex runs --studies lists, or last")
        })?),
    };
    let (id, study) = store.study(kind, number)?.ok_or_else(|| {
        let which = number.map_or_else(String::new, |number| format!(" with the number {number}"));
        Problem::new(format!("there is no study of {what}{which} in the store"), Place::default())
            .remedy(format!("make one with fonex {what}; fonex runs --studies lists those there are"))
    })?;
    let figures = serde_json::from_value(study.figures.clone()).map_err(|error| {
        Problem::new(format!("the figures of study {id} cannot be read: {error}"), Place::default())
            .remedy("it may come from another version of Fonex; measure again")
    })?;
    Ok(Found { id, study, figures })
}
