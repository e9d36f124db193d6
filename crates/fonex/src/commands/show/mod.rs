//! `fonex show`: one run in depth.

mod brief;
pub(in crate::commands) mod clips;
mod depth;
mod likeness;
mod notes;
mod stands_out;
mod tables;
pub(in crate::commands) mod voices;

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::{Args, ValueEnum};
use fonex_analysis::{Material, RunView, Side, VariantView, Wanted, by_kind, natural, score_in_depth};
use fonex_core::Outcome;
use fonex_core::accuracy::Score;
use fonex_core::measures::{Mattering, Measure};
use fonex_formats::Place;
use fonex_run::unknown;
use fonex_store::{Run, Store};
use serde::Serialize;

use super::chosen::{MeasureArg, ProfileArg};
use super::selected::{Selecting, WhereArg};
use super::{find_run, find_variant, load_run, mattering, store_to_read};
use crate::brief::Brief;
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Table};
use brief::brief;
pub use brief::{variants_by_what_matters, voices_table};
use clips::show_clip;
use depth::Depth;
pub use depth::Section;
pub use likeness::apart_from_recordings;
use likeness::show_likeness;
pub use tables::{by_slice, folded, measures_table, measures_tables, off_the_rest, variants_table};
use tables::{every_figure, headline_measures, slices_by};
use voices::show_rank;
pub use voices::{Weight, scorecard, weight};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex show last
  fonex show 1 --also slices,times
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
    /// Show every section below the answer
    #[arg(long)]
    pub all: bool,
    /// Show these sections below the answer
    #[arg(long, value_enum, value_name = "SECTION,...", value_delimiter = ',')]
    pub also: Vec<Section>,
    /// Number of worst clips to show word by word
    #[arg(long, value_name = "N")]
    pub worst: Option<usize>,
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
    /// Show the first measure by the values of this tag, speaker, lang, length or snr, or by two such as channel*wind, worst first
    #[arg(long, value_name = "TAG", conflicts_with_all = ["clip", "likeness", "rank"])]
    pub by: Vec<String>,
    #[command(flatten)]
    pub only: WhereArg,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// Worst clips of each variant, unless a number is given.
const WORST: usize = 3;

impl ShowOptions {
    /// The sections asked for.
    fn sections(&self) -> Vec<Section> {
        if self.all {
            return Section::value_variants().to_vec();
        }
        let worst = self.worst.filter(|worst| *worst > 0).map(|_| Section::Worst);
        self.also.iter().copied().chain(worst).collect()
    }
}

pub fn show(options: &ShowOptions) -> Result<Code, Failure> {
    let mut store = store_to_read(&options.bench)?;
    let run = find_run(&store, &options.run)?;
    let profile = options.profile.chosen()?;
    let chosen = options.measures.chosen()?;
    let wanted = wanted_for(options.format.format, chosen.clone());
    let selecting = Selecting { r#where: options.only.r#where.as_deref(), by: &options.by, bench: &options.bench };
    let wanted = selecting.wanted(&store, &run, wanted)?;
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
    if !options.by.is_empty() && matches!(options.format.format, Format::Table | Format::Markdown) {
        return show_by(&view, &chosen, &options.by, options.format.format);
    }
    if !chosen.is_empty() && matches!(options.format.format, Format::Table | Format::Markdown) {
        return show_measures(&view, &chosen, options.format.format);
    }
    let recordings = recordings(&store, options)?;
    let printed = Printed {
        format: options.format.format,
        recordings: recordings.as_ref(),
        matters: &mattering(&options.bench)?,
        sections: &options.sections(),
        worst: options.worst.unwrap_or(WORST),
        next: Vec::new(),
    };
    print_run(&mut store, &view, printed)?;
    Ok(Code::Done)
}

/// The measures asked for alone: over all clips, and the first of them by slice.
fn show_measures(view: &RunView, measures: &[&'static Measure], form: Format) -> Result<Code, Failure> {
    let variants: Vec<&VariantView> = view.variants.iter().filter(|v| v.measures.iter().next().is_some()).collect();
    let mut tables = measures_tables(&variants, output::width());
    tables.extend(by_slice(&variants, measures.first().copied()));
    let text =
        tables.iter().map(|table| if form == Format::Markdown { table.markdown() } else { output::text(table) });
    let text: Vec<String> = text.collect();
    if text.is_empty() {
        output::note("No variant of this run has such a measure.");
    }
    output::print_lines(&text.join("\n"))?;
    Ok(Code::Done)
}

/// One measure by what clips share, the worst slice first.
fn show_by(view: &RunView, chosen: &[&'static Measure], by: &[String], form: Format) -> Result<Code, Failure> {
    for by in by {
        let keys: Vec<&String> = view.sheet().keys.iter().map(|key| &key.by).collect();
        if !keys.contains(&by) {
            return Err(
                unknown(format!("no clip has the tag \"{by}\""), by, keys, Place::default().field("--by")).into()
            );
        }
    }
    let whole = |variant| Side { run: view, variant, material: Material::Whole };
    let sides: Vec<Side<'_>> = view.variants.iter().map(whole).collect();
    let kinds = by_kind(&sides).into_iter().zip(KINDS).filter(|(kind, _)| !kind.is_empty());
    let tables = kinds.flat_map(|(kind, title)| {
        let variants: Vec<&VariantView> = kind.iter().map(|side| side.variant).collect();
        let titled = variants.len() < view.variants.len();
        by.iter()
            .map(move |by| {
                let table = slices_by(&variants, chosen.first().copied(), by);
                if titled { table.titled(title) } else { table }
            })
            .collect::<Vec<_>>()
    });
    let tables: Vec<Table> = tables.collect();
    let answer = if tables.iter().all(Table::is_empty) {
        vec![format!("Nothing to compare by {}: all clips have the same value.", by.join(" or "))]
    } else {
        Vec::new()
    };
    Brief { heading: brief::heading(view), answer, tables, ..Brief::default() }.print(form)?;
    Ok(Code::Done)
}

/// The run whose recordings voices are held against, where one is named.
fn recordings(store: &Store, options: &ShowOptions) -> Result<Option<Run>, Failure> {
    options.recordings.as_ref().map(|typed| find_run(store, typed)).transpose()
}

/// What a run's page or its other forms need: a page of many trials does with the first measures by slice.
pub fn wanted_for(format: Format, measures: Vec<&'static Measure>) -> Wanted {
    let few = format == Format::Table && measures.is_empty();
    let slices_of_many = if few { headline_measures() } else { Vec::new() };
    Wanted { measures, slices: true, slices_of_many, ..Wanted::default() }
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
    /// The condition that its clips meet, where it is restricted to some.
    #[serde(skip_serializing_if = "Option::is_none")]
    r#where: Option<&'v String>,
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

fn made_again_in_words(made_again: &[MadeAgain]) -> String {
    let each = made_again.iter().map(|one| format!("{} {} {}", one.variant, one.outcome, one.trials));
    format!("made again after they failed: {}", each.collect::<Vec<_>>().join(", "))
}

/// How a run is printed.
pub struct Printed<'p> {
    /// The form.
    pub format: Format,
    /// The run whose recordings voices are held against, where one is named.
    pub recordings: Option<&'p Run>,
    /// Differences that matter.
    pub matters: &'p Mattering,
    /// Sections below the answer.
    pub sections: &'p [Section],
    /// The worst clips of each variant.
    pub worst: usize,
    /// Further commands, before those of the answer.
    pub next: Vec<String>,
}

/// Prints a run: the answer and the sections asked for, JSON with everything, or CSV with every measure of every variant and
/// slice.
pub fn print_run(store: &mut Store, view: &RunView, printed: Printed<'_>) -> Result<(), Failure> {
    match printed.format {
        Format::Json => {
            let mut variants = Vec::new();
            for variant in &view.variants {
                let depth = score_in_depth(store, view, variant)?;
                variants.push(InDepth { view: variant, score: depth });
            }
            let (run, scored_under, made_again) = (&view.run, view.scored_under.as_ref(), made_again(store, view)?);
            let r#where = view.r#where.as_ref();
            output::print_json(&RunInDepth { run, scored_under, r#where, made_again, variants })
        }
        Format::Csv => output::print_table(&every_figure(view), Format::Csv),
        form => {
            let natural = natural(store, view, printed.recordings)?;
            let made_again = made_again(store, view)?;
            let mut answer = brief(store, view, &natural, printed.matters)?;
            if !made_again.is_empty() {
                answer.stands_out.insert(0, made_again_in_words(&made_again));
            }
            answer.more.splice(0..0, printed.next);
            if printed.sections.is_empty() || form == Format::Markdown {
                return answer.print(form);
            }
            answer.more.clear();
            answer.print(form)?;
            let depth = Depth { store, view, natural: &natural, made_again: &made_again, worst: printed.worst };
            output::print_lines(&depth.text(printed.sections)?)
        }
    }
}

/// The sentences of the answer alone.
pub fn sentences(store: &mut Store, view: &RunView, matters: &Mattering) -> Result<Vec<String>, Failure> {
    Ok(brief(store, view, &[], matters)?.answer)
}

/// Titles of the kinds of variants.
pub const KINDS: [&str; 4] = ["Recognisers", "Synthesisers", "Voices as heard", "Responders"];
