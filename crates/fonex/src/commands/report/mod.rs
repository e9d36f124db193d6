//! `fonex report`: one self-contained HTML file about some runs.

mod charts;
mod clips;
mod depth;
mod explore;
mod names;
mod page;
mod sounds;
mod studies;
mod sweeps;
mod verdict;
mod voices;

use std::path::{Path, PathBuf};

use clap::Args;
use fonex_analysis::{RunView, Side, Wanted, natural};
use fonex_core::Task;
use fonex_core::measures::Unit;
use fonex_formats::{Place, Problem};
use fonex_report::figures::figure;
use fonex_report::{Book, ClipCard, render_report};
use fonex_store::Store;

use self::clips::Cards;
pub(super) use self::names::Names;
use self::page::{Shown, page};
pub(super) use self::page::{escaped, facts};
pub use self::sounds::SoundForm;
use self::sounds::Sounds;
use super::chosen::{ProfileArg, UnitArg};
use super::selected::{Selecting, WhereArg};
use super::{find_run, load_run, mattering, show, store_to_read};
use crate::cli::BenchArg;
use crate::failure::{Code, Failure};
use crate::output;

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex report 1 -o report.html                    sounds in the page
  fonex report 1 -o linked.html --sound linked     sounds in the folder linked-sound beside it")]
pub struct ReportOptions {
    /// Runs: numbers, labels, or last
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// File to write
    #[arg(short, long, value_name = "FILE", default_value = "report.html")]
    pub output: PathBuf,
    /// Number of worst clips to show for each variant
    #[arg(long, default_value_t = 6, value_name = "N")]
    pub worst: usize,
    /// Add a stored load study: its number; without a number, the last one
    #[arg(long, value_name = "STUDY", num_args = 0..=1, default_missing_value = "last")]
    pub load: Option<String>,
    /// Add a stored turns study: its number; without a number, the last one
    #[arg(long, value_name = "STUDY", num_args = 0..=1, default_missing_value = "last")]
    pub turns: Option<String>,
    /// Add a stored panel of listeners: its number; without a number, the last one
    #[arg(long, value_name = "STUDY", num_args = 0..=1, default_missing_value = "last")]
    pub panel: Option<String>,
    /// Where the sounds of the page are
    #[arg(long, value_enum, default_value = "embedded")]
    pub sound: SoundForm,
    /// Number of clips that can be explored, those with most mistakes; 0 leaves the browser out [default: 100000; 1000 where
    /// recognisers have more than 100000 trials]
    #[arg(long, value_name = "N")]
    pub clips: Option<usize>,
    /// Hold voices that are heard against the recordings of this run; without it, of the same run or the nearest before it
    #[arg(long, value_name = "RUN")]
    pub recordings: Option<String>,
    #[command(flatten)]
    pub only: WhereArg,
    #[command(flatten)]
    pub unit: UnitArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// Trials of recognisers up to which every clip of them can be explored.
const ALL_EXPLORED: u64 = 100_000;
/// Clips that can be explored of more trials than that: each is aligned again for the page, which is to stay small enough to send.
const SOME_EXPLORED: usize = 1_000;

fn most_explored(runs: &[RunView]) -> usize {
    let variants = runs.iter().flat_map(|run| &run.variants).filter(|variant| variant.variant.task == Task::Hear);
    let trials: u64 = variants.map(|variant| variant.extras.trials).sum();
    if trials > ALL_EXPLORED { SOME_EXPLORED } else { ALL_EXPLORED as usize }
}

/// Clips with sounds to explore.
pub struct ClipsOfPage {
    pub book: Option<Book>,
    pub cards: Vec<ClipCard>,
}

/// The clips of some variants, for the page at `path`.
pub(super) fn clips_of_page(
    store: &Store,
    runs: &[RunView],
    sides: &[Side<'_>],
    (folder, path): (&Path, &Path),
) -> Result<ClipsOfPage, Failure> {
    const WORST: usize = 6;
    let names = Names::new(runs);
    let mut sounds = Sounds::new(SoundForm::Embedded, path);
    let mut cards = Cards { store, names: &names, folder: folder.to_owned(), worst: WORST, sounds: &mut sounds };
    let still = cards.clips(sides, Vec::new())?;
    let book = cards.book(runs, sides, &still, SOME_EXPLORED)?;
    sounds.finish()?;
    Ok(ClipsOfPage { book, cards: still })
}

pub fn report(options: &ReportOptions) -> Result<Code, Failure> {
    let mut store = store_to_read(&options.bench)?;
    let profile = options.profile.chosen()?;
    let mut runs: Vec<RunView> = Vec::new();
    for typed in &options.runs {
        let run = find_run(&store, typed)?;
        if runs.iter().all(|known| known.run.id != run.id) {
            let selecting = Selecting { r#where: options.only.r#where.as_deref(), by: &[], bench: &options.bench };
            let wanted = selecting.wanted(&store, &run, Wanted { slices: true, ..Wanted::default() })?;
            runs.push(load_run(&mut store, run, profile.as_ref(), &wanted)?);
        }
    }
    let folder = options.bench.bench.parent().unwrap_or(Path::new("")).to_owned();
    let recordings = options.recordings.as_ref().map(|typed| find_run(&store, typed)).transpose()?;
    let (mut scorecards, mut head) = (Vec::new(), Vec::new());
    for view in &runs {
        let speaks = view.variants.iter().any(|variant| variant.variant.task == Task::Speak);
        let natural = if speaks { natural(&mut store, view, recordings.as_ref())? } else { Vec::new() };
        if speaks {
            head.push(
                show::voices_table(view, &natural)
                    .titled(if runs.len() > 1 { view.name() } else { String::new() })
                    .html(),
            );
        }
        if view.variants.iter().any(|variant| variant.variant.hears.is_some()) {
            let apart_db = show::apart_from_recordings(&store, view, &folder)?;
            scorecards.push(show::scorecard(view, &natural, &[], &apart_db).html());
        }
    }
    let mut sounds = Sounds::new(options.sound, &options.output);
    let clips = options.clips.unwrap_or_else(|| most_explored(&runs));
    let unit = options.unit.chosen();
    let mattering = mattering(&options.bench)?;
    let worst = options.worst;
    let shown = Shown { store: &store, runs: &runs, folder: &folder, worst, clips, unit, mattering: &mattering };
    let mut data = page(&shown, (head, scorecards), &mut sounds)?;
    studies::add(&mut data, &store, &runs, options)?;
    let page = render_report(&data).map_err(|error| Problem::new(error.to_string(), Place::file(&options.output)))?;
    sounds.finish()?;
    output::write_whole(&options.output, |out| Ok(out.write_all(page.as_bytes())?))?;
    let size = figure(Unit::Kib, Some(page.len() as f64 / 1024.0));
    output::note(&format!("Wrote {}, {size}.", options.output.display()));
    Ok(Code::Done)
}
