//! `fonex store`: looking after what is kept.

mod check;
mod copy;
mod prune;

use clap::Subcommand;

use crate::failure::{Code, Failure};

pub(super) use self::check::CheckReport;
pub(super) use self::copy::CopyReport;
pub(super) use self::prune::PruneReport;

#[derive(Debug, Subcommand)]
pub enum StoreCommand {
    /// Copy every run from one store to another, also between a folder and a server
    Copy(copy::CopyOptions),
    /// Read everything in a store and say what cannot be right
    Check(check::CheckOptions),
    /// Delete old runs, stale facts and sound that nothing refers to
    Prune(prune::PruneOptions),
}

pub fn store(command: &StoreCommand) -> Result<Code, Failure> {
    match command {
        StoreCommand::Copy(options) => copy::copy(options),
        StoreCommand::Check(options) => check::check(options),
        StoreCommand::Prune(options) => prune::prune(options),
    }
}
