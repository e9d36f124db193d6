//! `fonex export`: a run for other tools, or for another store.

mod open_metrics;
#[cfg(feature = "parquet")]
mod parquet;
#[cfg(not(feature = "parquet"))]
#[path = "without_parquet.rs"]
mod parquet;
pub(in crate::commands) mod rows;
pub(super) mod run_file;

use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use fonex_analysis::{RunView, Wanted};
use fonex_formats::{Place, Problem};
use fonex_store::Store;

use self::rows::Rows;
pub(super) use self::run_file::RunFileHead;
use super::chosen::ProfileArg;
use super::{find_run, load_run, store_to_read};
use crate::cli::BenchArg;
use crate::failure::{Code, Failure};
use crate::output;

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex export 1 -o run1.fonexrun.jsonl            the whole run, for fonex import into another store
  fonex export 1 --of trials                       a line a trial, as JSON Lines
  fonex export 1 --of words -o words.csv           what was heard, word by word
  fonex export 1 --of measures --form openmetrics  for a dashboard
Built with the feature parquet, it also writes .parquet files.")]
pub struct ExportOptions {
    /// The run: a number, a label, or last
    #[arg(value_name = "RUN", default_value = "last")]
    pub run: String,
    /// What to export
    #[arg(long, value_enum, default_value = "run", value_name = "WHAT")]
    pub of: What,
    /// In which form; by default as the file's ending says, else JSON Lines
    #[arg(long, value_enum, value_name = "FORM")]
    pub form: Option<Form>,
    /// File to write; standard output without it
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// With the whole run: leave out the synthesised audio
    #[arg(long)]
    pub without_audio: bool,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// What is exported.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum What {
    /// Everything, as one file that fonex import takes in
    Run,
    /// A line a trial: what was asked, what came back, what it counts
    Trials,
    /// A line a word of every trial that heard: said, heard, and which of the two is wrong
    Words,
    /// A line a trial and fact: the numbers that measures are computed from
    Facts,
    /// A line a figure: variant, slice, measure, with its interval
    Measures,
}

/// In which form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Form {
    /// JSON Lines
    Jsonl,
    /// CSV with a header
    Csv,
    /// OpenMetrics text, for measures
    Openmetrics,
    /// Apache Parquet; only where Fonex was built with the feature parquet
    Parquet,
}

impl What {
    /// Its rows; none of a whole run, which is no table.
    const fn rows(self) -> Option<Rows> {
        match self {
            Self::Run => None,
            Self::Trials => Some(Rows::Trials),
            Self::Words => Some(Rows::Words),
            Self::Facts => Some(Rows::Facts),
            Self::Measures => Some(Rows::Measures),
        }
    }
}

pub fn export(options: &ExportOptions) -> Result<Code, Failure> {
    let form = form(options)?;
    if options.without_audio && options.of != What::Run {
        let problem = Problem::new("only a whole run holds audio", Place::default().field("--without-audio"));
        return Err(problem.remedy("leave it out").into());
    }
    let mut store = store_to_read(&options.bench)?;
    let run = find_run(&store, &options.run)?;
    let wanted = Wanted { slices: options.of == What::Measures, ..Wanted::default() };
    let profile = options.profile.chosen()?;
    let view = load_run(&mut store, run, profile.as_ref(), &wanted)?;
    match &options.output {
        None => {
            let mut out = BufWriter::new(io::stdout().lock());
            write(&store, &view, options, form, &mut out)?;
            out.flush()?;
        }
        Some(path) => {
            output::write_whole(path, |out| write(&store, &view, options, form, out))?;
            let bytes = path.metadata().map_or(0, |file| file.len());
            output::note(&format!("Wrote {}, {} kB.", path.display(), bytes.div_ceil(1000)));
        }
    }
    Ok(Code::Done)
}

fn form(options: &ExportOptions) -> Result<Form, Problem> {
    let ending = options.output.as_deref().and_then(Path::extension).and_then(|ending| ending.to_str());
    let form = match (options.form, ending) {
        (Some(form), _) => form,
        (None, Some("csv")) => Form::Csv,
        (None, Some("prom")) => Form::Openmetrics,
        (None, Some("parquet")) => Form::Parquet,
        (None, None | Some("jsonl" | "json")) => Form::Jsonl,
        (None, Some(other)) => {
            let what = format!("what form is .{other}?");
            let place = options.output.as_deref().map(Place::file).unwrap_or_default();
            return Err(Problem::new(what, place).expected(".jsonl, .csv, .parquet or .prom, or --form"));
        }
    };
    let place = || Place::default().field("--form");
    match (options.of, form) {
        (What::Run, Form::Csv | Form::Openmetrics | Form::Parquet) => {
            let problem = Problem::new("a whole run is exported as JSON Lines only", place());
            Err(problem.remedy("say with --of what is wanted as a table"))
        }
        (What::Trials | What::Words | What::Facts, Form::Openmetrics) => {
            Err(Problem::new("OpenMetrics holds figures", place()).remedy("--of measures"))
        }
        (_, Form::Parquet) => parquet::check(options.output.as_deref()).map(|()| Form::Parquet),
        (_, form) => Ok(form),
    }
}

fn write(
    store: &Store,
    view: &RunView,
    options: &ExportOptions,
    form: Form,
    out: &mut dyn Write,
) -> Result<(), Failure> {
    let Some(rows) = options.of.rows() else {
        return run_file::write(store, &view.run, !options.without_audio, out);
    };
    match form {
        Form::Parquet => {
            let mut table = parquet::Table::new(rows)?;
            rows.each(store, view, &mut table)?;
            Ok(out.write_all(&table.finish()?)?)
        }
        Form::Openmetrics => open_metrics::write(view, out),
        form => rows.write(store, view, form, out),
    }
}
