//! `fonex compare`: findings about variants over the same clips.

mod brief;
mod by_slice;
pub(in crate::commands) mod flips;
pub(in crate::commands) mod many;
mod pages;

use std::path::PathBuf;

use clap::Args;
use fonex_analysis::{Asked, Material, RunView, Side, VariantView, Wanted, comparable, compare, sound_between};
use fonex_core::measures::find;
use fonex_core::verdict::Slices;
use fonex_formats::{Place, Problem};
use fonex_run::unknown;
use fonex_store::Store;

use self::brief::brief;
use self::by_slice::print_by_slice;
use self::flips::print_flips;
use self::many::print_matrix;
pub(crate) use self::pages::more_in_words;
pub(super) use self::pages::{explained, findings_table, statement, verdict};
use self::pages::{page, recipes_page};
use super::chosen::{MeasureArg, ProfileArg, UnitArg};
use super::run_names::look_up;
use super::selected::{Selecting, WhereArg};
use super::varied::{Varied, write_chart};
use super::{find_run, find_variant, load_run, mattering, store_to_read};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output;

#[derive(Debug, Args)]
#[command(after_help = "A run is a number, a label, or last; RUN:VARIANT names one of its variants.
Examples, in the folder the demo made:
  fonex compare 1                              its first variant against the others
  fonex compare 1:marl/river 1:tern            two variants
  fonex compare w45 w46 --measure 'wer,word_*'  the same variants in two runs
  fonex compare 1 --matrix                     who beats whom, and who is on the front of error, delay and cost
  fonex compare w45 w46 --flips                the clips that changed sides, most harmful first
  fonex compare 1 --best-by channel            which variant for which channel, and what choosing gains
A run of what fonex corpus vary made is compared recipe by recipe with --varied.")]
pub struct CompareOptions {
    /// What to compare; the first is the baseline for all others
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// Also compare within each value of this tag, speaker, lang, length or snr, or of two such as channel*wind; may be repeated
    #[arg(long, value_name = "TAG")]
    pub by: Vec<String>,
    /// Compare clips made by corpus vary with their originals, by recipe
    #[arg(long)]
    pub varied: bool,
    /// Hold every variant against every other: who beats whom, and the front of all measures and the cost
    #[arg(long, conflicts_with_all = ["varied", "by", "flips", "best_by"])]
    pub matrix: bool,
    /// List the clips that changed sides between two variants, with this many of each kind word by word
    #[arg(long, value_name = "N", num_args = 0..=1, default_missing_value = "5", conflicts_with_all = ["varied", "by", "best_by"])]
    pub flips: Option<usize>,
    /// Name the best variant for each value of this tag, speaker or lang, and what choosing by it would gain
    #[arg(long, value_name = "TAG", conflicts_with_all = ["varied", "by"])]
    pub best_by: Option<String>,
    /// Show every finding of every pair below the answer
    #[arg(long)]
    pub all: bool,
    /// With --varied: chart the first measure over the recipe's parameter, as .svg or .png
    #[arg(short, long, value_name = "FILE", requires = "varied")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub only: WhereArg,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub unit: UnitArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn compare_runs(options: &CompareOptions) -> Result<Code, Failure> {
    let mut store = store_to_read(&options.bench)?;
    let mut measures = options.measures.chosen()?;
    if (options.varied || options.best_by.is_some()) && measures.is_empty() {
        measures.extend(find("wer"));
    }
    if options.matrix && measures.is_empty() {
        measures.extend(MATRIX.into_iter().filter_map(find));
    }
    let asked = Asked {
        measures,
        by: options.by.clone(),
        unit: options.unit.chosen(),
        slices: Slices::Half,
        matters: mattering(&options.bench)?,
    };
    let profile = options.profile.chosen()?;
    let by: Vec<String> = options.by.iter().chain(&options.best_by).cloned().collect();
    let selecting = Selecting { r#where: options.only.r#where.as_deref(), by: &by, bench: &options.bench };
    let mut named = Vec::new();
    for typed in &options.runs {
        named.push(Named::find(&mut store, typed, profile.as_ref(), &asked, options.varied, selecting)?);
    }
    check_slices(&named, &asked.by)?;
    if options.matrix {
        return print_matrix(&store, &named, &asked, options.format.format);
    }
    if let Some(most) = options.flips {
        if !asked.measures.is_empty() || asked.unit.is_some() {
            let problem = Problem::new("what changed is told by terms, weight and words", Place::default());
            return Err(problem.remedy("leave out --measure and --unit with --flips").into());
        }
        return print_flips(&store, &pairs(&named)?, most, options.format.format);
    }
    if let Some(by) = &options.best_by {
        check_slices(&named, std::slice::from_ref(by))?;
        return print_by_slice(&store, &named, &asked, by, options.format.format);
    }
    let varied = if options.varied { Some(Varied::read(&store, &named)?) } else { None };
    let pairs = match &varied {
        Some(varied) => varied.pairs(&named),
        None => pairs(&named)?,
    };
    let mut comparisons = compare(&store, &pairs, &asked)?;
    if asked.measures.is_empty() {
        for (comparison, (first, second)) in comparisons.iter_mut().zip(&pairs) {
            comparison.sound = sound_between(&store, first, second)?;
        }
    }
    if comparisons.iter().all(|comparison| comparison.findings.is_empty()) {
        return Err(nothing_to_compare().into());
    }
    // Before anything is printed: what cannot be drawn is an error.
    if let Some(path) = &options.output {
        write_chart(path, &pairs, &comparisons, asked.measures[0])?;
    }
    match options.format.format {
        Format::Json => output::print_json(&comparisons)?,
        Format::Table if options.varied => output::print_lines(&recipes_page(&pairs, &comparisons))?,
        Format::Table | Format::Markdown if !options.varied => {
            let mut brief = brief(&comparisons, &options.runs, &options.by, tag_of(&named));
            if let Some(only) = &options.only.r#where {
                brief.heading += &format!(", where {only}");
            }
            if options.all {
                brief.more.clear();
            }
            brief.print(options.format.format)?;
            if options.all && options.format.format == Format::Table {
                output::print_lines(&format!("\n{}", page(&comparisons)))?;
            }
        }
        form => output::print_table(&findings_table(&comparisons, true), form)?,
    }
    Ok(Code::Done)
}

/// What a matrix is about by default; each variant is asked for what its task has.
const MATRIX: [&str; 3] = ["wer", "latency_p50", "unanswered"];

/// A run as named, with its variant where one was.
pub(super) struct Named {
    pub(super) view: RunView,
    variant: Option<String>,
}

impl Named {
    fn find(
        store: &mut Store,
        typed: &str,
        profile: Option<&fonex_core::text::TextProfile>,
        asked: &Asked,
        slices: bool,
        selecting: Selecting<'_>,
    ) -> Result<Self, Failure> {
        // A label may hold a colon itself: the whole is tried first.
        let mut parts = typed.rmatch_indices(':').map(|(at, _)| (&typed[..at], &typed[at + 1..]));
        let (run, variant) = match look_up(store, typed)? {
            Some(run) => (run, None),
            None => match parts.find_map(|(run, variant)| Some((look_up(store, run).transpose()?, variant))) {
                Some((run, variant)) => (run?, Some(variant.to_owned())),
                None => (find_run(store, typed.split(':').next().unwrap_or(typed))?, None),
            },
        };
        // Only what the pairs need is read; figures of each side come with the findings.
        let wanted = Wanted {
            measures: if asked.measures.is_empty() {
                find("wer").into_iter().collect()
            } else {
                asked.measures.clone()
            },
            slices,
            ..Wanted::default()
        };
        let wanted = selecting.wanted(store, &run, wanted)?;
        let view = load_run(store, run, profile, &wanted)?;
        if let Some(name) = &variant {
            find_variant(&view, name)?;
        }
        Ok(Self { view, variant })
    }

    /// Every variant that was named: one, or all of the run.
    pub(super) fn sides(&self) -> Vec<Side<'_>> {
        let named = |view: &&VariantView| self.variant.as_ref().is_none_or(|name| view.variant.name == *name);
        self.view
            .variants
            .iter()
            .filter(named)
            .map(|variant| Side { run: &self.view, variant, material: Material::Whole })
            .collect()
    }
}

/// A tag with few values, to compare by.
fn tag_of(named: &[Named]) -> Option<&str> {
    let keys = &named.first()?.view.sheet().keys;
    keys.iter().find(|key| (2..=6).contains(&key.values.len())).map(|key| key.by.as_str())
}

fn nothing_to_compare() -> Problem {
    let what = "there is nothing to compare: no measure of these variants over a clip of both";
    let remedy = "fonex measures lists the tasks of each measure; two corpora are compared by the ids of their clips";
    Problem::new(what, Place::default()).remedy(remedy)
}

/// A tag that no clip has is a mistake, not an empty answer.
fn check_slices(named: &[Named], by: &[String]) -> Result<(), Problem> {
    for by in by {
        let keys: Vec<&String> = named.iter().flat_map(|one| &one.view.sheet().keys).map(|key| &key.by).collect();
        if !keys.contains(&by) {
            return Err(unknown(format!("no clip has the tag \"{by}\""), by, keys, Place::default().field("--by")));
        }
    }
    Ok(())
}

/// Holds everything after the first against it. Of two whole runs, variants of the same name are paired; where each has
/// but one, those two.
fn pairs(named: &[Named]) -> Result<Vec<(Side<'_>, Side<'_>)>, Problem> {
    let (first, rest) = named.split_first().expect("the command line requires at least one run");
    let firsts = first.sides();
    let mut pairs = Vec::new();
    if rest.is_empty() {
        for group in comparable(&firsts) {
            if let [one, others @ ..] = group.as_slice() {
                pairs.extend(others.iter().map(|other| (*one, *other)));
            }
        }
        return if pairs.is_empty() {
            let problem = Problem::new("no two variants of this run have the same task", Place::default());
            Err(problem.remedy("name a second run, or RUN:VARIANT twice"))
        } else {
            Ok(pairs)
        };
    }
    for base in &firsts {
        let same = |side: &Side<'_>| side.variant.variant.name == base.variant.variant.name;
        for named in rest {
            let sides = named.sides();
            let single = sides.len() == 1 && firsts.len() == 1;
            let task = |side: &Side<'_>| side.variant.variant.task == base.variant.variant.task;
            pairs.extend(
                sides.into_iter().filter(|side| (single || same(side)) && task(side)).map(|other| (*base, other)),
            );
        }
    }
    if pairs.is_empty() {
        let problem = Problem::new("the runs have no variant in common", Place::default());
        return Err(problem.remedy("name the variants: RUN:VARIANT RUN:VARIANT"));
    }
    Ok(pairs)
}
