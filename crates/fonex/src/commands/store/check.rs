//! `fonex store check`: everything is read and held against itself.

use clap::Args;
use serde::Serialize;

use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(after_help = "Ends with 2 where something is wrong.

Example, in the folder the demo made: fonex store check")]
pub struct CheckOptions {
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What was looked at, and what is wrong.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct CheckReport {
    /// Runs.
    runs: u64,
    /// Trials of all runs.
    trials: u64,
    /// Labels, counted for each run.
    clips: u64,
    /// Sound files to which trials refer.
    sounds: u64,
    /// What is wrong, each with its run and trial.
    wrong: Vec<String>,
}

pub(super) fn check(options: &CheckOptions) -> Result<Code, Failure> {
    let choice = options.bench.store();
    let store = choice.existing()?;
    let bar = output::count_bar("checking", store.listed_runs()?.len() as u64, "runs");
    let checked = store.check(|so_far| bar.set_position(so_far.runs))?;
    bar.finish_and_clear();
    let report = CheckReport {
        runs: checked.runs,
        trials: checked.trials,
        clips: checked.clips,
        sounds: checked.sounds,
        wrong: checked.wrong,
    };
    let code = if report.wrong.is_empty() { Code::Done } else { Code::WrongUse };
    if options.format.format == Format::Json {
        output::print_json(&report)?;
        return Ok(code);
    }
    let mut text = String::new();
    for line in &report.wrong {
        text += &format!("wrong: {line}\n");
    }
    let looked_at = format!(
        "{} with {}, {}, {}",
        plural(report.runs, "run"),
        plural(report.trials, "trial"),
        plural(report.clips, "label"),
        plural(report.sounds, "sound file")
    );
    text += &match report.wrong.len() as u64 {
        0 => format!("{looked_at}: nothing is wrong.\n"),
        wrong => format!("{looked_at}: {} found.\n", plural(wrong, "fault")),
    };
    output::print_lines(&text)?;
    Ok(code)
}
