//! `fonex engine`: what engines there are, whether one answers, and which voices it has.

mod list;
mod probe;
mod voices;

use crate::cli::EngineCommand;
use crate::failure::{Code, Failure};

pub fn engine(command: &EngineCommand) -> Result<Code, Failure> {
    match command {
        EngineCommand::List(options) => list::list(options),
        EngineCommand::Probe(options) => probe::probe(options),
        EngineCommand::Voices(options) => voices::voices(options),
    }
}
