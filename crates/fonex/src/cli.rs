//! The command line: every command, and the options that commands share.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use fonex_run::StoreChoice;

use crate::commands::audio::AudioOptions;
use crate::commands::captions::CaptionsCommand;
use crate::commands::compare::CompareOptions;
use crate::commands::completions::CompletionsOptions;
use crate::commands::corpus::CorpusCommand;
use crate::commands::demo::DemoOptions;
use crate::commands::engine::EngineCommand;
use crate::commands::export::ExportOptions;
use crate::commands::gate::GateOptions;
use crate::commands::import::ImportOptions;
use crate::commands::init::InitOptions;
use crate::commands::load::LoadOptions;
use crate::commands::manual::ManualOptions;
use crate::commands::measures::MeasuresOptions;
use crate::commands::merge::MergeOptions;
use crate::commands::panel::PanelCommand;
use crate::commands::report::ReportOptions;
use crate::commands::run::RunOptions;
use crate::commands::runs::RunsOptions;
use crate::commands::schema::SchemaOptions;
use crate::commands::score::ScoreOptions;
use crate::commands::show::ShowOptions;
use crate::commands::standin::StandinCommand;
use crate::commands::store::StoreCommand;
use crate::commands::trend::TrendOptions;
use crate::commands::try_engine::TryOptions;
use crate::commands::turns::TurnsOptions;
use crate::commands::watch::WatchOptions;
use crate::commands::windows::WindowsOptions;
#[cfg(feature = "team")]
use crate::commands::work::WorkCommand;

/// Benchmarks speech engines against a labelled corpus, with honest uncertainty.
#[derive(Debug, Parser)]
#[command(name = "fonex", version, propagate_version = false, max_term_width = 100)]
pub struct Cli {
    #[command(subcommand)]
    pub command: Option<Command>,
    /// Say nothing on standard error but cautions and errors
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// When to colour: auto, always or never; NO_COLOR in the environment means never
    #[arg(
        long,
        global = true,
        value_enum,
        default_value = "auto",
        value_name = "WHEN",
        hide_possible_values = true,
        hide_default_value = true
    )]
    pub color: Color,
}

/// When output is coloured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the full example on shipped data, from corpus to report
    Demo(DemoOptions),
    /// Write a commented bench file to start from
    Init(InitOptions),
    /// Send one clip or one sentence to an engine now
    Try(TryOptions),
    /// List and probe the engines of the bench file
    #[command(after_help = "Example, in the folder the demo made: fonex engine list")]
    Engine {
        #[command(subcommand)]
        command: EngineCommand,
    },
    /// Execute a plan of the bench file; an interrupted run is resumed
    Run(RunOptions),
    /// Follow a run while it goes, in a page or in this terminal
    Watch(WatchOptions),
    /// Compare window lengths and pause rules: error rate against delay
    Windows(WindowsOptions),
    /// Find the highest load that the engines of a plan sustain
    Load(LoadOptions),
    /// Chain recogniser, responder and synthesiser; show where the time goes
    Turns(TurnsOptions),
    /// Score results that already exist against their labels
    Score(ScoreOptions),
    /// Merge the parts of a very large score
    Merge(MergeOptions),
    /// Write captions from recognised words; check existing captions
    #[command(after_help = "Example, in the folder the demo made: fonex captions write last --clip radio-006")]
    Captions {
        #[command(subcommand)]
        command: CaptionsCommand,
    },
    /// Measure recordings; draw one with its labels
    Audio(AudioOptions),
    /// Import, check, describe, sample and degrade a corpus
    #[command(after_help = "Example, in the folder the demo made: fonex corpus check corpus.jsonl")]
    Corpus {
        #[command(subcommand)]
        command: CorpusCommand,
    },
    /// List the measures, or explain one
    Measures(MeasuresOptions),
    /// List the stored runs
    Runs(RunsOptions),
    /// Run a worker for distributed runs
    #[cfg(feature = "team")]
    Work(WorkCommand),
    /// Copy, check or prune a store
    #[command(subcommand)]
    Store(StoreCommand),
    /// Show one run: the answer, or in depth
    Show(ShowOptions),
    /// Compare variants or runs clip by clip: better, worse, or cannot tell
    Compare(CompareOptions),
    /// Chart a measure over many runs and flag regressions
    Trend(TrendOptions),
    /// Judge a run by limits and a baseline: pass, fail or undecided
    Gate(GateOptions),
    /// Write a self-contained HTML report
    Report(ReportOptions),
    /// Export a run for other tools or another store
    Export(ExportOptions),
    /// Import a run from another store
    Import(ImportOptions),
    /// Let listeners rate voices blind
    #[command(after_help = "Example, in the folder the demo made: fonex panel build 2 -o listening.html")]
    Panel {
        #[command(subcommand)]
        command: PanelCommand,
    },
    /// Run the simulated engines that ship with Fonex
    #[command(
        after_help = "Example, in the folder the demo made: fonex standin serve --port 8790 --key-from FONEX_DEMO_KEY"
    )]
    Standin {
        #[command(subcommand)]
        command: StandinCommand,
    },
    /// Print the JSON Schema of a file that is read or written
    Schema(SchemaOptions),
    /// Print a completion script for a shell
    Completions(CompletionsOptions),
    /// Write a manual page for every command
    Manual(ManualOptions),
}

impl Command {
    /// Whether it keeps a thread for each of very many trials.
    pub const fn keeps_many_threads(&self) -> bool {
        #[cfg(feature = "team")]
        if matches!(self, Self::Work(_)) {
            return true;
        }
        matches!(
            self,
            Self::Demo(_) | Self::Run(_) | Self::Windows(_) | Self::Load(_) | Self::Turns(_) | Self::Standin { .. }
        )
    }
}

/// Where the bench file is.
#[derive(Debug, Clone, Args)]
pub struct BenchArg {
    /// Bench file; runs are stored in .fonex in its folder
    #[arg(short, long, value_name = "FILE", default_value = "fonex.toml")]
    pub bench: PathBuf,
    /// Another store: a folder, or postgres://USER@HOST/DATABASE [env: FONEX_STORE]
    #[arg(long, value_name = "PLACE")]
    pub store: Option<String>,
}

impl BenchArg {
    /// Which store it means.
    pub fn store(&self) -> StoreChoice {
        StoreChoice { bench: self.bench.clone(), named: self.store.clone() }
    }
}

/// In which form results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For a terminal
    Table,
    /// For programs; standard output holds nothing else
    Json,
    /// For spreadsheets
    Csv,
    /// For pull requests and wikis
    Markdown,
}

#[derive(Debug, Clone, Args)]
pub struct FormatArg {
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub format: Format,
}

/// A number of seconds, or of anything else, above zero.
///
/// # Errors
/// When it is none.
pub fn seconds_above_zero(typed: &str) -> Result<f64, String> {
    match typed.parse::<f64>() {
        Ok(seconds) if seconds > 0.0 && seconds.is_finite() => Ok(seconds),
        _ => Err("expected a number above 0".to_owned()),
    }
}

/// Commands in the order of work.
const GROUPS: [(&str, &[&str]); 7] = [
    ("begin", &["demo", "init", "try"]),
    ("material", &["corpus", "audio", "captions"]),
    ("run", &["engine", "run", "watch", "windows", "load", "turns", "panel", "standin"]),
    ("read", &["score", "runs", "show", "compare", "trend", "report", "measures"]),
    ("decide", &["gate"]),
    ("share", &["export", "import", "store", "work", "merge", "schema"]),
    ("look after", &["completions", "manual"]),
];

/// The command line with its help in groups.
pub fn command() -> clap::Command {
    let command = <Cli as clap::CommandFactory>::command();
    let mut listed =
        format!("{:<11} {:<11}  Say where you are: bench file, last run, what to do next\n", "", "(none)");
    for (group, names) in GROUPS {
        let mut title = group;
        for name in names {
            let found = command.find_subcommand(name).and_then(clap::Command::get_about);
            let Some(about) = found else { continue };
            listed += &format!("{title:<11} {name:<11}  {about}\n");
            title = "";
        }
    }
    let template = format!("{{about}}\n\n{{usage-heading}} {{usage}}\n\n{listed}\n{{options}}\n");
    command.help_template(template)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_is_in_one_group_and_the_help_fits_a_screen() {
        let mut command = command();
        let names: Vec<String> = command
            .get_subcommands()
            .map(|inner| inner.get_name().to_owned())
            .filter(|name| name != "help")
            .collect();
        for name in &names {
            let groups = GROUPS.iter().filter(|(_, own)| own.contains(&name.as_str())).count();
            assert_eq!(groups, 1, "{name}");
        }
        let help = command.render_help().to_string();
        assert!(help.lines().count() <= 40, "{help}");
        assert!(help.lines().all(|line| line.chars().count() <= 100), "{help}");
        names.iter().for_each(|name| assert!(help.contains(&format!(" {name} ")), "{name}"));
    }
}
