//! The commands, one file each: options in, a call into the libraries, output.

mod audio;
mod captions;
mod compare;
mod completions;
mod corpus;
mod demo;
mod engine;
mod in_depth;
mod init;
mod load;
mod pieces;
mod report;
mod run;
mod runs;
mod score;
mod show;
mod standin;
mod studies;
mod trend;
mod try_engine;
mod try_live;
mod turns;
mod windows;

use std::collections::HashMap;
use std::fs;
use std::sync::Arc;

use fonex_core::Clip;
use fonex_engines::{Engine, EngineConfig, build_engine};
use fonex_formats::{Place, Problem};
use fonex_store::{Run, RunRef, Store};

use crate::analysis::{RunView, VariantView};
use crate::bench::{Bench, unknown};
use crate::cli::{Cli, Command, StandinCommand};
use crate::failure::{Code, Failure};

/// Hands over to the command asked for.
pub fn dispatch(cli: Cli) -> Result<Code, Failure> {
    match cli.command {
        Command::Demo(options) => demo::demo(&options),
        Command::Init(options) => init::init(&options),
        Command::Try(options) => try_engine::try_engine(&options),
        Command::Engine { command } => engine::engine(&command),
        Command::Standin { command: StandinCommand::Serve(options) } => standin::serve(&options),
        Command::Run(options) => run::run(&options),
        Command::Windows(options) => windows::windows(&options),
        Command::Load(options) => load::load(&options),
        Command::Turns(options) => turns::turns(&options),
        Command::Score(options) => score::score(&options),
        Command::Captions { command } => captions::captions(&command),
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

/// Calls an engine outside a run; its temporary files live in a folder of this call.
fn with_engine<T>(
    config: &EngineConfig,
    bench: &Bench,
    labels: HashMap<String, Clip>,
    call: impl FnOnce(&dyn Engine) -> T,
) -> Result<T, Problem> {
    let scratch = std::env::temp_dir().join(format!("fonex-{}", std::process::id()));
    let engine = build_engine(config, &bench.surroundings(scratch.clone(), Arc::new(labels))?)?;
    let answer = call(engine.as_ref());
    // Trials remove their own files; what is left is the empty folder around them.
    drop(fs::remove_dir_all(&scratch));
    Ok(answer)
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
