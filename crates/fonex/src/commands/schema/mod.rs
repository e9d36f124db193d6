//! `fonex schema`: the form of every file that is read or written, as JSON Schema and as tables of fields.

mod fields;

use clap::Args;
use fonex_analysis::gate::{BaselineHead, BaselineLine, GateResult};
use fonex_analysis::panel::{PanelKey, PanelResult, Ratings};
use fonex_analysis::{BestBySlice, Comparison, Progress, Series, TrialLine};
use fonex_core::Clip;
use fonex_core::accuracy::Score;
use fonex_core::latency::LoadReport;
use fonex_core::text::TextProfile;
use fonex_formats::{HeardRecord, Place};
use fonex_run::{BenchFile, Conversation, Forecast, unknown};
use fonex_store::TrialRecord;
use schemars::Schema;
use schemars::generate::SchemaSettings;

use self::fields::{contents, page};
use super::export::run_file::AudioLine;
use super::{
    RunFileHead, audio, captions, compare, corpus, engine, export, measures, runs, score, show, store, try_engine,
    windows,
};
use crate::cli::{Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  fonex schema                        what there is
  fonex schema corpus                 a line of a corpus, as JSON Schema (draft 2020-12)
  fonex schema score --format markdown  the same of a score, as a table of fields")]
pub struct SchemaOptions {
    /// Which; without it all are listed
    pub name: Option<String>,
    /// Every table of fields, as one page
    #[arg(long, conflicts_with = "name")]
    pub all: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

/// Something that is read or written.
struct Known {
    name: &'static str,
    about: &'static str,
    schema: fn() -> Schema,
}

macro_rules! known {
    ($settings:expr; $(($name:literal, $about:literal, $of:ty)),* $(,)?) => {
        [$(Known {
            name: $name,
            about: $about,
            schema: || $settings.into_generator().into_root_schema_for::<$of>(),
        }),*]
    };
}

/// What is read, then what is written.
fn all() -> Vec<Known> {
    // What is read may leave out what has a default; what is written, what there is nothing to say of.
    let read = known![SchemaSettings::draft2020_12();
        ("corpus", "a line of a corpus", Clip),
        ("heard", "a line of results that a recogniser gave", HeardRecord),
        ("bench", "a bench file, which is a TOML file", BenchFile),
        ("profile", "a text profile, which is a TOML file", TextProfile),
        ("baseline-head", "the first line of a baseline that gate --accept writes", BaselineHead),
        ("baseline", "every further line of a baseline", BaselineLine),
        ("run-head", "the first line of a run that export writes and import reads; clips (corpus) follow", RunFileHead),
        ("run-trial", "its lines of trials, behind those of clips", TrialRecord),
        ("run-audio", "its lines of audio, behind those of trials", AudioLine),
        ("panel-key", "the key of a panel of listeners", PanelKey),
        ("ratings", "what a listener sends back", Ratings),
    ];
    let written = known![SchemaSettings::draft2020_12().for_serialize();
        ("score", "score", Score),
        ("score-clips", "a line of score --clips", score::clip_lines::ClipLine<'static>),
        ("runs", "runs", Vec<runs::RunLine>),
        ("store-copy", "store copy", store::CopyReport),
        ("store-check", "store check", store::CheckReport),
        ("store-prune", "store prune", store::PruneReport),
        ("studies", "runs --studies", Vec<runs::StudyLine>),
        ("dry-run", "run --dry-run", Vec<Forecast>),
        ("show", "show", show::RunInDepth<'static>),
        ("show-clips", "show --clip", Vec<show::clips::ClipView<'static>>),
        ("compare", "compare", Vec<Comparison>),
        ("matrix", "compare --matrix", Vec<compare::many::Matrix>),
        ("flips", "compare --flips", Vec<compare::flips::Changed>),
        ("best-by", "compare --best-by", Vec<BestBySlice>),
        ("trend", "trend", Vec<Series>),
        ("gate", "gate", GateResult),
        ("measures", "measures", Vec<measures::Listed>),
        ("watch", "watch --once", Progress),
        ("trials", "a line of export --of trials", TrialLine),
        ("words", "a line of export --of words", export::rows::Word<'static>),
        ("facts", "a line of export --of facts", export::rows::FactLine<'static>),
        ("check", "corpus check", corpus::check::Checked),
        ("describe", "corpus describe", corpus::describe::Description),
        ("audio", "audio", Vec<audio::Measured>),
        ("captions-check", "captions check", Vec<captions::check::Checked>),
        ("try", "try", try_engine::Tried),
        ("engines", "engine list", Vec<engine::list::Listed<'static>>),
        ("probe", "engine probe", Vec<engine::probe::Finding>),
        ("windows", "windows", windows::Study),
        ("load", "load", Vec<LoadReport>),
        ("turns", "turns", Conversation),
        ("panel", "panel collect", PanelResult),
    ];
    #[cfg(feature = "team")]
    let team = known![SchemaSettings::draft2020_12().for_serialize();
        ("spread", "work --list", fonex_run::Seen),
        ("work", "work", fonex_run::WorkReport),
    ];
    #[cfg(not(feature = "team"))]
    let team: [Known; 0] = [];
    read.into_iter().chain(written).chain(team).collect()
}

pub fn schema(options: &SchemaOptions) -> Result<Code, Failure> {
    let all = all();
    if options.all {
        let contents = contents(all.iter().map(|known| (known.name, known.about)));
        let pages = all.iter().map(|known| page(known.name, known.about, &(known.schema)()));
        let pages = std::iter::once(contents).chain(pages);
        output::print(&pages.collect::<Vec<_>>().join("\n"))?;
        return Ok(Code::Done);
    }
    let Some(name) = &options.name else {
        let mut table = Table::new([("name", 0), ("form of", 0)]);
        for known in &all {
            table.row([Cell::text(known.name), Cell::text(known.about)]);
        }
        match options.format.format {
            Format::Table => output::print(&output::text(&table))?,
            Format::Json => output::print_json(&all.iter().map(|known| known.name).collect::<Vec<_>>())?,
            form => output::print_table(&table, form)?,
        }
        return Ok(Code::Done);
    };
    let Some(known) = all.iter().find(|known| known.name == name) else {
        let names: Vec<String> = all.iter().map(|known| known.name.to_owned()).collect();
        return Err(unknown(format!("there is no schema \"{name}\""), name, &names, Place::default()).into());
    };
    let schema = (known.schema)();
    match options.format.format {
        Format::Table | Format::Json => output::print_json(&schema)?,
        Format::Markdown => output::print(&page(known.name, known.about, &schema))?,
        Format::Csv => output::print_table(&fields::table(&schema), Format::Csv)?,
    }
    Ok(Code::Done)
}
