//! Bench files read, and plans executed on stand-ins, as a library: what they come to, and what is wrong with them.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]
#![allow(missing_docs, reason = "what a test shares needs no page")]

mod executed;
mod plans;
mod problems;

use std::path::PathBuf;

use fonex_formats::{Problem, Problems};
use fonex_run::{Bench, read_bench};

/// A bench file in a folder of its own.
pub struct Folder(tempfile::TempDir);

impl Default for Folder {
    fn default() -> Self {
        Self(tempfile::tempdir().unwrap())
    }
}

impl Folder {
    pub fn write(&self, name: &str, content: &str) -> PathBuf {
        let path = self.0.path().join(name);
        std::fs::write(&path, content).unwrap();
        path
    }

    pub fn bench(&self, toml: &str, set: &[&str]) -> Result<Bench, Vec<Problem>> {
        let set: Vec<String> = set.iter().map(|typed| (*typed).to_owned()).collect();
        read_bench(&self.write("fonex.toml", toml), &set).map_err(|Problems(problems)| problems)
    }
}
