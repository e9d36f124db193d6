//! The commands, one file each: options in, a call into the libraries, output.

pub mod audio;
pub mod captions;
mod chosen;
pub mod compare;
pub mod completions;
pub mod corpus;
pub mod demo;
pub mod engine;
pub mod gate;
mod in_depth;
pub mod init;
pub mod load;
pub mod measures;
pub mod panel;
mod pieces;
mod power;
pub mod report;
pub mod run;
mod run_names;
pub mod runs;
pub mod score;
pub mod show;
mod sound;
pub mod standin;
mod studies;
mod terms;
pub mod trend;
pub mod try_engine;
pub mod turns;
mod varied;
pub mod windows;

use fonex_formats::Place;

use fonex_analysis::{RunView, VariantView};
use fonex_run::unknown;

use crate::cli::{Cli, Command};
use crate::commands::standin::StandinCommand;
use crate::failure::{Code, Failure};
use crate::output::plural;
use run_names::find_run;

/// `3 errors in 7 words`: insertions are errors too, so that there may be more of them than words.
fn errors_of_words(errors: u64, words: u64) -> String {
    format!("{} in {}", plural(errors, "error"), plural(words, "word"))
}

/// Hands over to the command asked for.
pub fn dispatch(cli: Cli) -> Result<Code, Failure> {
    match cli.command {
        Command::Demo(options) => demo::demo(&options),
        Command::Init(options) => init::init(&options),
        Command::Try(options) => try_engine::try_engine(&options),
        Command::Engine { command } => engine::engine(&command),
        Command::Standin { command: StandinCommand::Serve(options) } => standin::serve(&options),
        Command::Standin { command: StandinCommand::Listen(options) } => panel::listen(&options),
        Command::Run(options) => run::run(&options),
        Command::Windows(options) => windows::windows(&options),
        Command::Load(options) => load::load(&options),
        Command::Turns(options) => turns::turns(&options),
        Command::Score(options) => score::score(&options),
        Command::Captions { command } => captions::captions(&command),
        Command::Audio(options) => audio::audio(&options),
        Command::Corpus { command } => corpus::corpus(&command),
        Command::Measures(options) => measures::measures(&options),
        Command::Runs(options) => runs::runs(&options),
        Command::Show(options) => show::show(&options),
        Command::Compare(options) => compare::compare_runs(&options),
        Command::Gate(options) => gate::gate(&options),
        Command::Trend(options) => trend::trend_of_runs(&options),
        Command::Report(options) => report::report(&options),
        Command::Panel { command } => panel::panel(&command),
        Command::Completions(options) => completions::completions(&options),
    }
}

/// The variant of a run that a person named.
fn find_variant<'v>(view: &'v RunView, typed: &str) -> Result<&'v VariantView, Failure> {
    view.variants.iter().find(|variant| variant.variant.name == typed).ok_or_else(|| {
        let names: Vec<String> = view.variants.iter().map(|v| v.variant.name.clone()).collect();
        unknown(format!("run {} has no variant \"{typed}\"", view.name()), typed, &names, Place::default()).into()
    })
}
