//! The commands, one file each: options in, a call into the libraries, output.

mod audio;
mod compare;
mod completions;
mod corpus;
mod demo;
mod init;
mod pieces;
mod report;
mod run;
mod runs;
mod score;
mod show;
mod trend;
mod try_engine;

use fonex_formats::{Place, Problem};
use fonex_store::{Run, RunRef, Store};

use crate::analysis::{RunView, VariantView};
use crate::bench::unknown;
use crate::cli::{Cli, Command};
use crate::failure::{Code, Failure};

/// Hands over to the command asked for.
pub fn dispatch(cli: Cli) -> Result<Code, Failure> {
    match cli.command {
        Command::Demo(options) => demo::demo(&options),
        Command::Init(options) => init::init(&options),
        Command::Try(options) => try_engine::try_engine(&options),
        Command::Run(options) => run::run(&options),
        Command::Score(options) => score::score(&options),
        Command::Audio(options) => audio::audio(&options),
        Command::Corpus { command } => corpus::corpus(&command),
        Command::Runs(options) => runs::runs(&options),
        Command::Show(options) => show::show(&options),
        Command::Compare(options) => compare::compare_runs(&options),
        Command::Trend(options) => trend::trend_of_runs(&options),
        Command::Report(options) => report::report(&options),
        Command::Completions(options) => completions::completions(&options),
    }
}

/// The run a person named.
fn find_run(store: &Store, typed: &str) -> Result<Run, Failure> {
    store.run(&RunRef::parse(typed))?.map_or_else(
        || {
            let runs = store.runs()?;
            let labels: Vec<String> = runs.iter().filter_map(|run| run.label.clone()).collect();
            let problem =
                unknown(format!("there is no run \"{typed}\" in the store"), typed, &labels, Place::default());
            Err(problem.expected("a run's number, its label, or last; fonex runs lists them").into())
        },
        Ok,
    )
}

/// The variant of a run that a person named.
fn find_variant<'v>(view: &'v RunView, typed: &str) -> Result<&'v VariantView, Failure> {
    view.variants.iter().find(|variant| variant.variant.name == typed).ok_or_else(|| {
        let names: Vec<String> = view.variants.iter().map(|v| v.variant.name.clone()).collect();
        unknown(format!("run {} has no variant \"{typed}\"", view.name()), typed, &names, Place::default()).into()
    })
}

/// `TAG=VALUE` as typed for a slice.
fn parse_slice(typed: &str) -> Result<(&str, &str), Problem> {
    typed.split_once('=').ok_or_else(|| {
        Problem::new(format!("\"{typed}\" is not a slice"), Place::default())
            .expected("TAG=VALUE, such as channel=radio")
    })
}
