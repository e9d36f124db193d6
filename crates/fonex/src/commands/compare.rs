//! `fonex compare`: findings about variants over the same clips.

use std::path::PathBuf;

use clap::Args;
use fonex_analysis::{
    Asked, Comparison, CostSummary, Material, RunView, Side, VariantView, Wanted, comparable, compare, sound_between,
};
use fonex_core::measures::find;
use fonex_core::verdict::{DrawnUnit, Finding, Verdict};
use fonex_formats::{Place, Problem};
use fonex_report::figures::figure;
use fonex_report::folded_under;
use fonex_run::unknown;
use fonex_store::Store;

use super::chosen::{MeasureArg, ProfileArg, UnitArg};
use super::run_names::look_up;
use super::sound::sound;
use super::varied::{Varied, recipes_table, write_chart};
use super::{find_run, find_variant, load_run, store_to_read};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, money};

#[derive(Debug, Args)]
#[command(after_help = "A run is a number, a label, or last; RUN:VARIANT names one of its variants.
Examples, in the folder the demo made:
  fonex compare 1                              its first variant against the others
  fonex compare 1:marl/river 1:tern            two variants
  fonex compare w45 w46 --measure 'wer,word_*'  the same variants in two runs
A run of what fonex corpus vary made is compared recipe by recipe with --varied.")]
pub struct CompareOptions {
    /// What to compare; the first is the baseline for all others
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// Also compare within each value of this tag, speaker or lang; may be repeated
    #[arg(long, value_name = "TAG")]
    pub by: Vec<String>,
    /// Compare clips made by corpus vary with their originals, by recipe
    #[arg(long)]
    pub varied: bool,
    /// With --varied: chart the first measure over the recipe's parameter, as .svg or .png
    #[arg(short, long, value_name = "FILE", requires = "varied")]
    pub output: Option<PathBuf>,
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
    if options.varied && measures.is_empty() {
        measures.extend(find("wer"));
    }
    let asked = Asked { measures, by: options.by.clone(), unit: options.unit.chosen() };
    let profile = options.profile.chosen()?;
    let mut named = Vec::new();
    for typed in &options.runs {
        named.push(Named::find(&mut store, typed, profile.as_ref(), &asked, options.varied)?);
    }
    check_slices(&named, &asked.by)?;
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
        let problem = Problem::new("none of these measures applies to these variants", Place::default());
        return Err(problem.remedy("fonex measures lists the tasks of each measure").into());
    }
    match options.format.format {
        Format::Json => output::print_json(&comparisons)?,
        Format::Table if options.varied => output::print(&recipes_page(&pairs, &comparisons))?,
        Format::Table => output::print(&page(&comparisons))?,
        form => output::print_table(&findings_table(&comparisons, true), form)?,
    }
    if let Some(path) = &options.output {
        write_chart(path, &pairs, &comparisons, asked.measures[0])?;
    }
    Ok(Code::Done)
}

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
            measures: asked.measures.first().copied().or_else(|| find("wer")).into_iter().collect(),
            slices,
            ..Wanted::default()
        };
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

/// One table for all recipes.
fn recipes_page(pairs: &[(Side<'_>, Side<'_>)], comparisons: &[Comparison]) -> String {
    let mut cautions: Vec<&String> = comparisons.iter().flat_map(|comparison| &comparison.cautions).collect();
    cautions.sort();
    cautions.dedup();
    let cautions = cautions.iter().map(|caution| format!("caution: {caution}\n"));
    cautions.collect::<String>() + &output::text(&recipes_table(pairs, comparisons)) + &explained(comparisons)
}

/// Why there is no verdict, a line a reason, and how many more clips would bring one.
fn undecided(findings: &[Finding]) -> String {
    let mut more_clips = Vec::new();
    let mut reasons: Vec<(String, Vec<String>)> = Vec::new();
    for finding in findings.iter().filter(|finding| finding.verdict == Verdict::CannotTell) {
        let name = find(&finding.measure).map_or(finding.measure.as_str(), |measure| measure.name);
        let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!(" on {slice}"));
        if let Some(more) = finding.more_clips {
            more_clips.push(format!("{more} for {name}{slice}"));
            continue;
        }
        let (why, what) = (reason(finding), format!("{name}{slice}"));
        match reasons.iter_mut().find(|(known, _)| *known == why) {
            Some((_, all)) => all.push(what),
            None => reasons.push((why, vec![what])),
        }
    }
    let more_clips = (!more_clips.is_empty())
        .then(|| format!("more clips needed to detect such a difference with 80 % power: {}", more_clips.join(", ")));
    let reasons = reasons.into_iter().map(|(why, what)| format!("no verdict on {}: {why}", what.join(", ")));
    more_clips.into_iter().chain(reasons).map(|line| folded_under(&line, output::width(), 2)).collect()
}

fn page(comparisons: &[Comparison]) -> String {
    let mut text = String::new();
    for comparison in comparisons {
        text += &format!("{} against {}\n", comparison.second, comparison.first);
        for caution in &comparison.cautions {
            text += &format!("  caution: {caution}\n");
        }
        let table = findings_table(std::slice::from_ref(comparison), false);
        text += &output::text(&table.without(&["more clips", "reason"]));
        text += &undecided(&comparison.findings);
        text += &costs(comparison);
        text += &sound(comparison);
        text.push('\n');
    }
    text + &explained(comparisons)
}

/// What intervals and verdicts stand for.
fn explained(comparisons: &[Comparison]) -> String {
    let mut text = String::new();
    let findings: Vec<&Finding> = comparisons.iter().flat_map(|comparison| &comparison.findings).collect();
    let tested = findings.iter().filter(|finding| finding.interval.is_some()).count();
    text += &format!(
        "Pairs of the same clips. Intervals and verdicts hold at 95 % for all {} shown together.\n",
        output::plural(tested as u64, "finding")
    );
    let mut units: Vec<DrawnUnit> = Vec::new();
    findings.iter().map(|finding| finding.unit).for_each(|unit| {
        if !units.contains(&unit) {
            units.push(unit);
        }
    });
    for unit in units {
        text += match unit {
            DrawnUnit::Clip => "Unit of sampling: clips. Verdicts hold for more clips like these.\n",
            DrawnUnit::Speaker => {
                "Unit of sampling: speakers. Verdicts hold for more speakers like these; --unit clip limits them to these.\n"
            }
            DrawnUnit::Recording => {
                "Unit of sampling: recordings. Verdicts hold for more recordings like these; --unit clip limits them to these.\n"
            }
        };
    }
    text
}

/// What the two cost for each trial. No sample and no chance: no interval.
fn costs(comparison: &Comparison) -> String {
    let (first, second) = (comparison.first_cost.as_ref(), comparison.second_cost.as_ref());
    if first.is_none() && second.is_none() {
        return String::new();
    }
    let cost = |side: Option<&CostSummary>| {
        side.map_or_else(|| "no price".to_owned(), |side| money(side.per_trial, Some(&side.currency)))
    };
    format!("cost of a trial: first {}, second {}\n", cost(first), cost(second))
}

/// One row a finding.
pub(super) fn findings_table(comparisons: &[Comparison], named: bool) -> Table {
    let named = named || comparisons.len() > 1;
    let sides = [("first variant", 0), ("second variant", 0)];
    let columns = [
        ("verdict", 0),
        ("measure", 0),
        ("clips of", 0),
        ("clips", 2),
        ("units", 4),
        ("first", 1),
        ("second", 1),
        ("difference", 0),
        ("more clips", 3),
        ("reason", 3),
    ];
    let mut table = Table::new(sides.into_iter().filter(|_| named).chain(columns));
    for comparison in comparisons {
        for finding in &comparison.findings {
            let sides = [&comparison.first, &comparison.second].map(|name| Cell::text(name.as_str()));
            table.row(sides.into_iter().filter(|_| named).chain(finding_cells(finding)));
        }
    }
    table.without_empty_columns()
}

fn finding_cells(finding: &Finding) -> [Cell; 10] {
    let measure = find(&finding.measure);
    let unit = measure.map_or(fonex_core::measures::Unit::Ratio, |measure| measure.unit);
    let units = if finding.unit == DrawnUnit::Clip {
        Cell::Empty
    } else {
        Cell::text(output::plural(finding.units, finding.unit.as_str()))
    };
    [
        verdict(finding.verdict),
        measure.map_or_else(|| Cell::text(finding.measure.as_str()), |m| Cell::Named(m.id, m.name)),
        Cell::text(finding.slice.as_deref().unwrap_or("all")),
        Cell::Count(finding.clips),
        units,
        Cell::figure(unit, finding.first),
        Cell::figure(unit, finding.second),
        finding.difference.map_or(Cell::Empty, |difference| Cell::Difference(unit, difference, finding.interval)),
        finding.more_clips.map_or(Cell::Empty, Cell::Count),
        Cell::text(reason(finding)),
    ]
}

/// The verdict with a sign that reads without colour.
pub(super) fn verdict(verdict: Verdict) -> Cell {
    let sign = match verdict {
        Verdict::Better => "▼",
        Verdict::Worse => "▲",
        Verdict::Differs => "◆",
        Verdict::CannotTell => "?",
    };
    Cell::Verdict(sign, verdict.as_str().to_owned())
}

/// Why it cannot tell, where that is not a number of clips.
fn reason(finding: &Finding) -> String {
    if let Some(why) = &finding.withheld {
        return why.clone();
    }
    match (finding.verdict, finding.interval, finding.more_clips) {
        (Verdict::CannotTell, None, _) => "too few clips for an interval".to_owned(),
        (Verdict::CannotTell, Some(_), None) if finding.difference == Some(0.0) => {
            "no difference observed".to_owned()
        }
        (Verdict::CannotTell, Some(_), None) => "more than a million".to_owned(),
        _ => String::new(),
    }
}

/// A finding in one sentence.
pub(super) fn statement(comparison: &Comparison, finding: &Finding) -> Option<String> {
    let measure = find(&finding.measure)?;
    let lower = finding.difference? < 0.0;
    let says = measure.says[usize::from(!lower)];
    let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!(" on {}", slice.replace('=', " ")));
    let difference = |value: f64| fonex_report::figures::difference(measure.unit, value);
    let interval = finding
        .interval
        .map_or_else(String::new, |i| format!(", difference {} to {}", difference(i.low), difference(i.high)));
    Some(format!(
        "{} {says} {}{slice}: {} {} against {} over {}{interval}.",
        comparison.second,
        comparison.first,
        measure.name,
        figure(measure.unit, finding.second),
        figure(measure.unit, finding.first),
        output::plural(finding.clips, "clip"),
    ))
}
