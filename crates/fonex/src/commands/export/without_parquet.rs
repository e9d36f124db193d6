//! In place of Parquet where Fonex was built without it.

use std::convert::Infallible;
use std::path::Path;

use fonex_formats::{Place, Problem};
use serde::Serialize;

use super::rows::{Rows, Sink};
use crate::failure::Failure;

/// No table is ever made.
pub struct Table(Infallible);

pub fn check(_: Option<&Path>) -> Result<(), Problem> {
    let problem = Problem::new("this Fonex was built without Parquet", Place::default().field("--form"));
    Err(problem.remedy("build it with --features parquet, or export JSON Lines or CSV"))
}

impl Table {
    pub fn new(_: Rows) -> Result<Self, Failure> {
        check(None)?;
        unreachable!("it was refused")
    }

    pub fn finish(self) -> Result<Vec<u8>, Failure> {
        match self.0 {}
    }
}

impl Sink for Table {
    fn line(&mut self, _: &impl Serialize) -> Result<(), Failure> {
        match self.0 {}
    }
}
