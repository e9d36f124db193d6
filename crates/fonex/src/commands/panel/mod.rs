//! `fonex panel`: blind listening tests, built from what voices spoke and collected from what listeners sent back.

mod build;
mod collect;
mod listen;
mod sounds;
mod tables;

use std::fs;
use std::path::Path;

use clap::Subcommand;
use fonex_analysis::panel::PanelKey;
use fonex_formats::{Place, Problem, regular};

pub use self::build::{Asked, PanelBuild, build};
pub use self::collect::{PanelCollect, collect_ratings};
pub use self::listen::{StandinListen, listen};
pub use self::tables::{panel_caption, panel_chart, panel_tables};

use crate::failure::{Code, Failure};

#[derive(Debug, Subcommand)]
pub enum PanelCommand {
    /// Write a page on which listeners rate the voices of a run blind, and the key that stays with you
    Build(PanelBuild),
    /// Put the ratings of all listeners together
    Collect(PanelCollect),
}

pub fn panel(command: &PanelCommand) -> Result<Code, Failure> {
    match command {
        PanelCommand::Build(options) => build(options),
        PanelCommand::Collect(options) => collect_ratings(options),
    }
}

/// Reads the key of a panel.
pub fn read_key(path: &Path) -> Result<PanelKey, Failure> {
    let text = regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
    Ok(PanelKey::parse(&text, &Place::file(path))?)
}

/// Writes a file that nobody else needs to read half.
fn write(path: &Path, text: &str) -> Result<(), Failure> {
    fs::write(path, text).map_err(|error| Problem::io("write", path, &error).into())
}
