//! `fonex captions`: captions from what was heard, and the faults of captions that exist.

pub(in crate::commands) mod check;
mod write;

use clap::{Args, Subcommand};
use fonex_core::captions::CaptionRule;

use crate::cli::seconds_above_zero;
use crate::failure::{Code, Failure};
pub use check::CaptionsCheck;
pub use write::CaptionsWrite;

#[derive(Debug, Subcommand)]
pub enum CaptionsCommand {
    /// Turn timed words into captions: SubRip, WebVTT or plain text
    Write(CaptionsWrite),
    /// Check captions for readability and, with labels, for accuracy
    Check(CaptionsCheck),
}

/// What a caption may be.
#[derive(Debug, Args)]
pub struct CaptionRules {
    /// Maximum characters per line
    #[arg(long, default_value_t = 42, value_name = "N", value_parser = clap::value_parser!(u16).range(5..=500))]
    pub line: u16,
    /// Maximum lines per caption
    #[arg(long, default_value_t = 2, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=10))]
    pub lines: u16,
    /// Maximum reading speed, in characters per second
    #[arg(long, default_value_t = 17.0, value_name = "N", value_parser = seconds_above_zero)]
    pub speed: f64,
}

pub fn captions(command: &CaptionsCommand) -> Result<Code, Failure> {
    match command {
        CaptionsCommand::Write(options) => write::write(options),
        CaptionsCommand::Check(options) => check::check(options),
    }
}

fn rule(rules: &CaptionRules) -> CaptionRule {
    CaptionRule {
        line_characters: usize::from(rules.line),
        lines: usize::from(rules.lines),
        characters_per_s: rules.speed,
        ..CaptionRule::default()
    }
}
