//! `fonex corpus`: get the material right before anyone measures.

pub(in crate::commands) mod check;
pub(in crate::commands) mod describe;
mod import;
mod pick;
mod suspects;
mod texts;
mod vary;

use std::fs;
use std::path::Path;

use clap::Subcommand;

use fonex_core::Clip;
use fonex_formats::{Problem, corpus_line};

use self::check::CorpusCheckOptions;
use self::describe::CorpusDescribe;
use self::import::CorpusImport;
use self::pick::CorpusPick;
pub(super) use self::suspects::table as suspects_table;
use self::texts::CorpusTexts;
use self::vary::CorpusVary;
use crate::failure::{Code, Failure};

#[derive(Debug, Subcommand)]
pub enum CorpusCommand {
    /// Make a corpus from a folder, a table, or a recording with captions
    Import(CorpusImport),
    /// Find the problems that would spoil a run
    Check(CorpusCheckOptions),
    /// Summarise a corpus in tables and a chart
    Describe(CorpusDescribe),
    /// Select clips by a condition, draw samples, split by speaker
    Pick(CorpusPick),
    /// Make a corpus to be spoken out of text files, with texts of every length
    Texts(CorpusTexts),
    /// Make degraded copies of a corpus: noise, reverberation, telephone, packet loss, speed
    Vary(CorpusVary),
}

/// Hands over to the part asked for.
pub fn corpus(command: &CorpusCommand) -> Result<Code, Failure> {
    match command {
        CorpusCommand::Import(options) => import::import(options),
        CorpusCommand::Check(options) => check::check(options),
        CorpusCommand::Describe(options) => describe::describe(options),
        CorpusCommand::Pick(options) => pick::pick(options),
        CorpusCommand::Texts(options) => texts::texts(options),
        CorpusCommand::Vary(options) => vary::vary(options),
    }
}

/// Writes clips as a corpus file.
fn write_corpus<'c>(path: &Path, clips: impl IntoIterator<Item = &'c Clip>) -> Result<(), Problem> {
    let mut lines = String::new();
    for clip in clips {
        lines += &corpus_line(clip);
        lines.push('\n');
    }
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(|error| Problem::io("make", folder, &error))?;
    }
    fs::write(path, lines).map_err(|error| Problem::io("write", path, &error))
}
