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

/// Benchmarks speech recognition and synthesis engines against a labelled corpus, with honest uncertainty.
#[derive(Debug, Parser)]
#[command(name = "fonex", version, propagate_version = false, max_term_width = 100)]
#[command(after_help = "Start with: fonex demo")]
pub struct Cli {
    #[command(subcommand)]
    pub command: Command,
    /// Say nothing on standard error but cautions and errors
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// When to colour; NO_COLOR in the environment means never
    #[arg(long, global = true, value_enum, default_value = "auto", value_name = "WHEN")]
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
    /// Follow a run as it goes: a page on loopback, or this terminal
    Watch(WatchOptions),
    /// Run the same clips with several window lengths or pause rules; chart error rate against delay
    Windows(WindowsOptions),
    /// Load-test the engines of a plan and find the highest rate they sustain
    Load(LoadOptions),
    /// Chain recogniser, responder and synthesiser into turns; show where the time goes
    Turns(TurnsOptions),
    /// Score results that already exist against their labels
    Score(ScoreOptions),
    /// Put the parts of a very large score together
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
    /// Make trials for runs that are spread over machines
    #[cfg(feature = "team")]
    Work(WorkCommand),
    /// Copy a store, check it, or delete what is no longer wanted
    #[command(subcommand)]
    Store(StoreCommand),
    /// Show one run in depth
    Show(ShowOptions),
    /// Compare variants or runs clip by clip: better, worse, or cannot tell
    Compare(CompareOptions),
    /// Chart a measure over many runs and flag regressions
    Trend(TrendOptions),
    /// Hold a run against limits and a baseline: pass, fail or undecided
    Gate(GateOptions),
    /// Write a self-contained HTML report
    Report(ReportOptions),
    /// Export a run for other tools, or for another store
    Export(ExportOptions),
    /// Take in a run that was exported from another store
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
    /// Print the form of a file that is read or written, as JSON Schema
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
