//! The commands, one file each: options in, a call into the libraries, output.

pub mod audio;
pub mod captions;
mod chosen;
pub mod compare;
pub mod completions;
pub mod corpus;
pub mod demo;
pub mod engine;
pub mod export;
pub mod gate;
pub mod import;
mod in_depth;
pub mod init;
pub mod load;
pub mod manual;
pub mod measures;
pub mod merge;
pub mod panel;
mod power;
pub mod report;
pub mod run;
mod run_names;
pub mod runs;
pub mod schema;
pub mod score;
mod selected;
pub mod show;
mod sound;
#[cfg(feature = "team")]
mod spread;
pub mod standin;
mod status;
pub mod store;
mod studies;
mod terms;
pub mod trend;
pub mod try_engine;
pub mod turns;
mod varied;
pub mod watch;
pub mod windows;
#[cfg(feature = "team")]
pub mod work;

use fonex_analysis::{RunView, VariantView, Wanted};
use fonex_core::measures::Mattering;
use fonex_core::measures::tell_own;
use fonex_core::text::TextProfile;
use fonex_formats::{Place, regular};
use fonex_run::{read_bench, unknown};
use fonex_store::{Run, Store};

use crate::cli::{BenchArg, Cli, Command};
use crate::commands::standin::StandinCommand;
use crate::failure::{Code, Failure};
use crate::output::{self, plural};
use export::RunFileHead;
use run_names::find_run;

/// `3 errors in 7 words`: insertions are errors too, so that there may be more of them than words.
fn errors_of_words(errors: u64, words: u64) -> String {
    format!("{} in {}", plural(errors, "error"), plural(words, "word"))
}

/// Hands over to the command asked for.
pub fn dispatch(cli: Cli) -> Result<Code, Failure> {
    let Some(command) = cli.command else { return status::status() };
    match command {
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
        Command::Merge(options) => merge::merge(&options),
        Command::Score(options) => score::score(&options),
        Command::Captions { command } => captions::captions(&command),
        Command::Audio(options) => audio::audio(&options),
        Command::Corpus { command } => corpus::corpus(&command),
        Command::Measures(options) => measures::measures(&options),
        Command::Runs(options) => runs::runs(&options),
        #[cfg(feature = "team")]
        Command::Work(options) => work::work(&options),
        Command::Store(command) => store::store(&command),
        Command::Show(options) => show::show(&options),
        Command::Compare(options) => compare::compare_runs(&options),
        Command::Gate(options) => gate::gate(&options),
        Command::Trend(options) => trend::trend_of_runs(&options),
        Command::Export(options) => export::export(&options),
        Command::Import(options) => import::import(&options),
        Command::Report(options) => report::report(&options),
        Command::Watch(options) => watch::watch(&options),
        Command::Panel { command } => panel::panel(&command),
        Command::Manual(options) => manual::manual(&options),
        Command::Schema(options) => schema::schema(&options),
        Command::Completions(options) => completions::completions(&options),
    }
}

/// Tells of the measures of one's own that a bench file defines. Without a usable bench file there are none, which is said
/// where it holds some.
fn tell_own_measures(bench: &BenchArg) {
    let path = &bench.bench;
    // Most bench files define none, and need not be read.
    if !regular::read_text(path).is_ok_and(|text| text.contains("[measure")) {
        return;
    }
    match read_bench(path, &[]) {
        Ok(bench) => {
            bench.broken.measures.iter().for_each(|problem| output::caution(&problem.to_string()));
            tell_own(bench.own);
        }
        Err(problems) => output::caution(&format!("the measures of the bench file are left out: {problems}")),
    }
}

/// Reads the differences that matter from the bench file.
fn mattering(bench: &BenchArg) -> Result<Mattering, Failure> {
    let path = &bench.bench;
    // Most bench files set none: skip reading them.
    if !regular::read_text(path).is_ok_and(|text| text.contains("matters")) {
        return Ok(Mattering::new());
    }
    Ok(read_bench(path, &[])?.matters()?.clone())
}

/// Opens the store beside a bench file to read from it, with the measures that the file defines.
fn store_to_read(bench: &BenchArg) -> Result<Store, Failure> {
    tell_own_measures(bench);
    Ok(bench.store().existing()?)
}

/// Measures a stored run, and says which measures of one's own could not be computed.
fn load_run(store: &mut Store, run: Run, profile: Option<&TextProfile>, wanted: &Wanted) -> Result<RunView, Failure> {
    let view = RunView::load(store, run, profile, wanted)?;
    view.not_measured.iter().for_each(|why| output::caution(why));
    Ok(view)
}

/// The variant of a run that a person named.
fn find_variant<'v>(view: &'v RunView, typed: &str) -> Result<&'v VariantView, Failure> {
    view.variants.iter().find(|variant| variant.variant.name == typed).ok_or_else(|| {
        let names: Vec<String> = view.variants.iter().map(|v| v.variant.name.clone()).collect();
        unknown(format!("run {} has no variant \"{typed}\"", view.name()), typed, &names, Place::default()).into()
    })
}
