//! `fonex show`: one run in depth.

pub(in crate::commands) mod clips;
mod likeness;
mod notes;
mod tables;
pub(in crate::commands) mod voices;

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Args;
use fonex_analysis::{
    MANY_TRIALS, Material, Natural, RunView, Side, VariantView, Wanted, by_kind, natural, score_in_depth,
};
use fonex_core::Outcome;
use fonex_core::accuracy::Score;
use fonex_core::measures::Measure;
use fonex_run::profile_checksum;
use fonex_store::{Run, RunState, Store};
use serde::Serialize;

use super::chosen::{MeasureArg, ProfileArg};
use super::in_depth::in_depth;
use super::{find_run, find_variant, load_run, store_to_read};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, percent, plural};
use clips::{show_clip, worst_clips};
pub use likeness::apart_from_recordings;
use likeness::show_likeness;
use notes::{cautions, costs, disputed, outcomes, requests, times};
use tables::{MOST_SIDE_BY_SIDE, every_figure, headline_measures};
pub use tables::{by_slice, folded, measures_table, off_the_rest, variants_table};
use voices::pronunciation;
use voices::show_rank;
pub use voices::{Weight, scorecard, weight};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex show last
  fonex show 1 --variant marl/river --worst 10
  fonex show 1 --measure 'word_*' --format csv
  fonex show 1 --clip radio-006
  fonex show 2 --likeness -o voices.svg")]
pub struct ShowOptions {
    /// Run: its number, its label, or last
    #[arg(default_value = "last")]
    pub run: String,
    /// Only this variant
    #[arg(long)]
    pub variant: Option<String>,
    /// Only this clip, word by word
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Number of worst clips to show word by word
    #[arg(long, default_value_t = 3, value_name = "N")]
    pub worst: usize,
    /// Show the scorecard alone, its voices ranked by these measures with their weights
    #[arg(long, value_name = "MEASURE=WEIGHT,...", value_delimiter = ',', value_parser = weight, conflicts_with_all = ["clip", "likeness"])]
    pub rank: Vec<Weight>,
    /// Hold voices that are heard against the recordings of this run; without it, of the same run or the nearest before it
    #[arg(long, value_name = "RUN", conflicts_with = "clip")]
    pub recordings: Option<String>,
    /// Show how alike the voices sound: the distance of each two
    #[arg(long, conflicts_with = "clip")]
    pub likeness: bool,
    /// With --likeness: draw a map on which voices that sound alike lie close, as .svg or .png
    #[arg(short, long, value_name = "FILE", requires = "likeness")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn show(options: &ShowOptions) -> Result<Code, Failure> {
    let mut store = store_to_read(&options.bench)?;
    let run = find_run(&store, &options.run)?;
    let profile = options.profile.chosen()?;
    let wanted = wanted_for(options.format.format, options.measures.chosen()?);
    let mut view = load_run(&mut store, run, profile.as_ref(), &wanted)?;
    if let Some(name) = &options.variant {
        find_variant(&view, name)?;
        view.variants.retain(|variant| variant.variant.name == *name);
    }
    if let Some(id) = &options.clip {
        return show_clip(&store, &view, id, options.format.format);
    }
    if options.likeness {
        return show_likeness(&store, &view, options);
    }
    if !options.rank.is_empty() {
        return show_rank(&mut store, &view, options);
    }
    let recordings = recordings(&store, options)?;
    print_run(&mut store, &view, options.format.format, recordings.as_ref())?;
    if options.format.format == Format::Table {
        // Of several variants it would be too much on one page.
        if let (Some(_), [only]) = (&options.variant, view.variants.as_slice()) {
            let depth = score_in_depth(&store, &view, only)?;
            output::print(&depth.map_or_else(String::new, |depth| in_depth(&depth)))?;
        }
        output::print(&worst_clips(&store, &view, options.worst)?)?;
    }
    Ok(Code::Done)
}

/// The run whose recordings voices are held against, where one is named.
fn recordings(store: &Store, options: &ShowOptions) -> Result<Option<Run>, Failure> {
    options.recordings.as_ref().map(|typed| find_run(store, typed)).transpose()
}

/// What a run's page or its other forms need: a page of many trials does with the first measures by slice.
pub fn wanted_for(format: Format, measures: Vec<&'static Measure>) -> Wanted {
    let few = format == Format::Table && measures.is_empty();
    Wanted { measures, slices: true, slices_of_many: if few { headline_measures() } else { Vec::new() } }
}

/// A variant with what went wrong in it, for programs.
#[derive(Serialize, schemars::JsonSchema)]
struct InDepth<'v> {
    #[serde(flatten)]
    view: &'v VariantView,
    #[serde(skip_serializing_if = "Option::is_none")]
    score: Option<Score>,
}

/// A run in depth, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct RunInDepth<'v> {
    run: &'v Run,
    #[serde(skip_serializing_if = "Option::is_none")]
    scored_under: Option<&'v String>,
    /// Trials that failed and were made again: how they had ended.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    made_again: Vec<MadeAgain>,
    variants: Vec<InDepth<'v>>,
}

/// Trials of a variant that failed in one way before they were made again.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct MadeAgain {
    variant: String,
    outcome: Outcome,
    trials: u64,
}

fn made_again(store: &Store, view: &RunView) -> Result<Vec<MadeAgain>, Failure> {
    let mut counts: BTreeMap<(usize, Outcome), u64> = BTreeMap::new();
    for trial in store.retried(view.run.id)? {
        *counts.entry((trial.key.variant, trial.outcome)).or_default() += 1;
    }
    let named = counts.into_iter().filter_map(|((variant, outcome), trials)| {
        let variant = view.run.variants.get(variant)?.name.clone();
        Some(MadeAgain { variant, outcome, trials })
    });
    Ok(named.collect())
}

/// Prints a run: as a page, as JSON with everything, or as one table of every measure of every variant and slice.
pub fn print_run(store: &mut Store, view: &RunView, format: Format, recordings: Option<&Run>) -> Result<(), Failure> {
    match format {
        Format::Json => {
            let mut variants = Vec::new();
            for variant in &view.variants {
                let depth = score_in_depth(store, view, variant)?;
                variants.push(InDepth { view: variant, score: depth });
            }
            let (run, scored_under, made_again) = (&view.run, view.scored_under.as_ref(), made_again(store, view)?);
            output::print_json(&RunInDepth { run, scored_under, made_again, variants })
        }
        Format::Table => {
            let natural = natural(store, view, recordings)?;
            let pronounced = pronunciation(store, view)?;
            output::print(&page(view, &natural, &pronounced, &made_again(store, view)?))
        }
        form => output::print_table(&every_figure(view), form),
    }
}

/// Titles of the kinds of variants.
pub const KINDS: [&str; 4] = ["Recognisers", "Synthesisers", "Voices as heard", "Responders"];

fn page(view: &RunView, natural: &[Natural], pronounced: &Table, made_again: &[MadeAgain]) -> String {
    let mut page = header(view, made_again);
    if view.variants.iter().any(|variant| variant.variant.hears.is_some()) {
        page += &output::text(&scorecard(view, natural, &[], &BTreeMap::new()));
        page.push('\n');
        if !pronounced.is_empty() {
            page += &output::text(pronounced);
            page.push('\n');
        }
    }
    let sides: Vec<Side<'_>> =
        view.variants.iter().map(|variant| Side { run: view, variant, material: Material::Whole }).collect();
    for (group, title) in by_kind(&sides).into_iter().zip(KINDS) {
        let group: Vec<&VariantView> = group.iter().map(|side| side.variant).collect();
        if group.is_empty() {
            continue;
        }
        let several = view.variants.len() > group.len();
        let table = variants_table(&group);
        page += &output::text(&if several { table.titled(title) } else { table });
        page.push('\n');
        if group.len() <= MOST_SIDE_BY_SIDE {
            page += &output::text(&measures_table(&group));
        } else {
            page += "every measure of one variant: --variant NAME; of all: --format csv\n";
        }
        page.push('\n');
        for table in by_slice(&group) {
            page += &output::text(&table);
            page.push('\n');
        }
    }
    if view.variants.iter().any(|variant| variant.extras.trials > MANY_TRIALS as u64) {
        page += "With this many trials, only the first measures are shown by slice; --format csv has all.\n\n";
    }
    for notes in [outcomes(view), disputed(view), cautions(view), requests(view), costs(view), times(view)] {
        if !notes.is_empty() {
            page += &format!("{notes}\n");
        }
    }
    page.truncate(page.trim_end().len());
    page + "\n"
}

fn header(view: &RunView, made_again: &[MadeAgain]) -> String {
    let run = &view.run;
    let label = run.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
    let state = if run.state == RunState::Finished { "" } else { ", unfinished" };
    let started = run.started_at.replace('T', " ");
    let mut text = format!("Run {}{label}{state}: plan {}, {started}\n", run.id, run.plan);
    let checksum = run.corpus_checksum.get(..8).unwrap_or_default();
    let profile = view.profile();
    let own = if view.scored_under.is_some() { ", not the run's own" } else { "" };
    text += &format!(
        "corpus {} ({checksum}), text profile {} ({}{own}), seed {}, Fonex {}\n",
        run.corpus_path,
        profile.name,
        &profile_checksum(profile)[..8],
        run.seed,
        run.fonex_version
    );
    let machine = &run.machine;
    text += &format!("{}, {}, {}\n", machine.cpu, plural(machine.cores as u64, "core"), machine.os);
    if let Some(busy) = machine.during {
        text += &format!(
            "during the run, other processes used {} of the processors, this program and its engines {}\n",
            percent(Some(busy.others)),
            percent(Some(busy.own))
        );
    }
    if let Some(commit) = &run.commit {
        text += &format!("commit {commit}\n");
    }
    if !run.overrides.is_empty() {
        text += &format!("set: {}\n", run.overrides.join(", "));
    }
    if !run.left_out.is_empty() {
        text += &format!("{} could not be used\n", plural(run.left_out.len() as u64, "clip"));
    }
    if !made_again.is_empty() {
        let each = made_again.iter().map(|one| format!("{} {} {}", one.variant, one.outcome, one.trials));
        text += &format!("made again after they failed: {}\n", each.collect::<Vec<_>>().join(", "));
    }
    text.push('\n');
    text
}
