//! `fonex engine`: what engines there are, whether one answers, and which voices it has.

pub(in crate::commands) mod list;
pub(in crate::commands) mod probe;
mod voices;

use clap::Subcommand;

use self::list::EngineListOptions;
use self::probe::EngineProbeOptions;
use self::voices::EngineVoicesOptions;
use crate::failure::{Code, Failure};

#[derive(Debug, Subcommand)]
pub enum EngineCommand {
    /// List the engines, their addresses and the keys they need
    List(EngineListOptions),
    /// Make one cheap call and report what works
    Probe(EngineProbeOptions),
    /// List the voices of a synthesiser
    Voices(EngineVoicesOptions),
}

pub fn engine(command: &EngineCommand) -> Result<Code, Failure> {
    match command {
        EngineCommand::List(options) => list::list(options),
        EngineCommand::Probe(options) => probe::probe(options),
        EngineCommand::Voices(options) => voices::voices(options),
    }
}
