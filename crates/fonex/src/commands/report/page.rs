//! What stands on the page of a report.

use std::path::Path;

use fonex_analysis::{
    Asked, Comparison, Material, RunView, Side, VariantView, by_kind, comparable, compare, score_in_depth, try_labels,
};
use fonex_core::accuracy::Score;
use fonex_core::measures::Mattering;
use fonex_core::verdict::{DrawnUnit, FEW_CLIPS, Finding, Slices, Verdict};
use fonex_report::{HtmlTable, ReportData, Statement, Table};
use fonex_run::{now, profile_checksum};
use fonex_store::Store;

use super::charts;
use super::clips::Cards;
use super::depth::{depth_tables, reliability_chart};
use super::names::Names;
use super::sounds::Sounds;
use super::verdict::{picture, verdict};
use super::{sweeps, voices};
use crate::commands::compare::{explained, findings_table, statement};
use crate::commands::corpus::suspects_table;
use crate::commands::runs::note_in_words;
use crate::commands::show;
use crate::commands::terms::{PRONOUNCED, terms_table};
use crate::failure::Failure;
use crate::output::plural;

/// What a page is made of.
pub struct Shown<'p> {
    pub store: &'p Store,
    pub runs: &'p [RunView],
    /// The folder of the bench file.
    pub folder: &'p Path,
    /// How many of the worst clips are shown for each variant without scripts.
    pub worst: usize,
    /// How many clips can be explored.
    pub clips: usize,
    /// Unit of sampling; without one, the corpus decides.
    pub unit: Option<DrawnUnit>,
    /// Differences that matter.
    pub mattering: &'p Mattering,
}

/// The page, but for studies.
pub fn page(
    shown: &Shown<'_>,
    (voice_tables, scorecards): (Vec<HtmlTable>, Vec<HtmlTable>),
    sounds: &mut Sounds,
) -> Result<ReportData, Failure> {
    let Shown { store, runs, folder, worst, clips, unit, mattering } = *shown;
    let names = Names::new(runs);
    let sides: Vec<Side<'_>> = runs
        .iter()
        .flat_map(|run| run.variants.iter().map(move |variant| Side { run, variant, material: Material::Whole }))
        .collect();
    let comparisons = comparisons(store, &names, &sides, (unit, mattering))?;
    let mut scores: Vec<(String, Score)> = Vec::new();
    for side in charts::recognisers(&sides) {
        if let Some(score) = score_in_depth(store, side.run, side.variant)? {
            scores.push((names.of(side), score));
        }
    }
    let mut heard: Vec<(String, Score)> = Vec::new();
    // Texts are aligned again for their terms alone.
    let [_, _, voices, _] = by_kind(&sides);
    for side in voices.iter().filter(|side| side.variant.measures.get("term_recall").is_some()) {
        if let Some(score) = score_in_depth(store, side.run, side.variant)? {
            heard.push((names.of(*side), score));
        }
    }
    let heard: Vec<(String, &Score)> = heard.iter().map(|(name, score)| (name.clone(), score)).collect();
    let pronounced = terms_table(PRONOUNCED, &heard);
    let scores: Vec<(String, &Score)> = scores.iter().map(|(name, score)| (name.clone(), score)).collect();
    let titles: Vec<String> = runs.iter().map(RunView::name).collect();
    let only = runs[0].r#where.as_ref().map_or_else(String::new, |only| format!(", only clips where {only}"));
    let noun = if titles.len() == 1 { "Run" } else { "Runs" };
    let mut cards = Cards { store, names: &names, folder: folder.to_owned(), worst, sounds };
    let mut all_charts = charts::charts((store, unit, mattering), &names, runs, &sides)?;
    all_charts.extend(reliability_chart(&scores));
    all_charts.extend(voices::trade_off(runs));
    all_charts.extend(sweeps::along_settings(runs));
    let (told, untold) = by_verdict(&comparisons);
    let findings = findings_table(&told, true).titled("Findings").noted(
        "Pairs of the same clips. Intervals and verdicts hold at 95 % for all findings of this page together.",
    );
    let without = untold.iter().map(|comparison| comparison.findings.len()).sum::<usize>() as u64;
    let untold = findings_table(&untold, true).titled(format!("{} without a verdict", plural(without, "finding")));
    let (labels, suspects) = labels_on_trial(store, runs)?;
    let filled = |tables: Vec<Table>| -> Vec<HtmlTable> {
        let linked = |table: &Table| table.html().linked("clips of", clips_of_slice);
        tables.iter().filter(|table| !table.is_empty()).map(linked).collect()
    };
    let still = cards.clips(&sides, suspects)?;
    let spoken = cards.spoken(runs, &sides)?;
    let book = cards.book(runs, &sides, &still, clips)?;
    let verdict = verdict(&comparisons, &names, &sides, book.as_ref());
    // What the verdict says is not said again.
    let statements = statements(&comparisons).into_iter().filter(|line| !verdict.contains(&line.text)).collect();
    let head = head(&names, &sides).into_iter().chain(voice_tables).collect();
    Ok(ReportData {
        title: format!("Speech benchmark: {} {}", noun.to_lowercase(), titles.join(", ")),
        subtitle: format!(
            "{noun} {} of {}{only}, written {}",
            titles.join(", "),
            folder.join("fonex.toml").display(),
            now()
        ),
        picture: picture(&comparisons),
        head,
        untold: (!untold.is_empty()).then(|| untold.html().linked("clips of", clips_of_slice)),
        verdict,
        statements,
        cautions: cautions(&comparisons, &sides),
        facts: facts(runs),
        summary: scorecards.into_iter().chain(summary(&names, &sides)).collect(),
        charts: all_charts,
        tables: filled(std::iter::once(findings).chain(labels).collect()),
        wrong: filled(depth_tables(&scores).into_iter().chain([pronounced]).collect()),
        clips: still,
        book,
        spoken,
        method: method(runs, &comparisons),
        sounds_beside: sounds.are_beside(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
    })
}

/// Clips of a corpus whose labels are put on trial for a report; more take long.
const MOST_ON_TRIAL: u32 = 100_000;
/// Suspect clips that are shown with their sound.
const MOST_SUSPECTS: usize = 6;

/// The labels that the engines of the runs agree against, and the clips to listen to; nothing where none is suspect.
fn labels_on_trial(store: &Store, runs: &[RunView]) -> Result<(Option<Table>, Vec<String>), Failure> {
    let corpus = &runs[0].run.corpus_checksum;
    let one_corpus = runs.iter().all(|view| view.run.corpus_checksum == *corpus);
    if !one_corpus || runs[0].sheet().clips > MOST_ON_TRIAL {
        return Ok((None, Vec::new()));
    }
    let tried = try_labels(store, runs, &store.clips(corpus)?)?.filter(|tried| !tried.suspects.is_empty());
    let Some(tried) = tried else { return Ok((None, Vec::new())) };
    let note = format!(
        "Labels that the engines agree against: about {} may be wrong. They are among the clips below, to be listened to.",
        tried.expected_wrong.round().max(1.0)
    );
    let clips = tried.suspects.iter().take(MOST_SUSPECTS).map(|suspect| suspect.clip.clone()).collect();
    Ok((Some(suspects_table(&tried).without(&["chance"]).titled("Labels on trial").noted(note)), clips))
}

/// The first of each task against the others, all of them one family.
fn comparisons(
    store: &Store,
    names: &Names<'_>,
    sides: &[Side<'_>],
    (unit, mattering): (Option<DrawnUnit>, &Mattering),
) -> Result<Vec<Comparison>, Failure> {
    let mut pairs = Vec::new();
    for group in comparable(sides) {
        if let [first, others @ ..] = group.as_slice() {
            pairs.extend(others.iter().map(|other| (*first, *other)));
        }
    }
    let by = pairs.first().map_or_else(Vec::new, |(first, _)| charted_tags(first.variant));
    let asked = Asked { by, unit, slices: Slices::After, matters: mattering.clone(), ..Asked::default() };
    let named = compare(store, &pairs, &asked)?.into_iter().zip(&pairs).map(|(comparison, (first, second))| {
        Comparison { first: names.of(*first), second: names.of(*second), ..comparison }
    });
    Ok(named.collect())
}

/// Tags to ask about value by value: those every clip has, with few values. Each question costs certainty in the others.
fn charted_tags(variant: &VariantView) -> Vec<String> {
    let by_tag = variant.slices.chunk_by(|a, b| a.by == b.by);
    by_tag
        .filter(|slices| slices.iter().map(|slice| slice.clips).sum::<u64>() == variant.clips)
        .filter(|slices| (2..=4).contains(&slices.len()) && !matches!(slices[0].by.as_str(), "speaker" | "length"))
        .map(|slices| slices[0].by.clone())
        .collect()
}

/// Statements listed; the table of findings has all.
const MOST_STATEMENTS: usize = 8;

/// The findings that found a difference, in sentences, each with the fragment that opens its clips.
fn statements(comparisons: &[Comparison]) -> Vec<Statement> {
    let mut statements = Vec::new();
    for comparison in comparisons {
        let told = comparison.findings.iter().filter(|finding| finding.verdict.is_difference());
        statements.extend(told.filter_map(|finding| {
            let clips = (finding.measure == "wer").then(|| clips_of(comparison, finding));
            Some(Statement { text: statement(comparison, finding)?, clips })
        }));
    }
    statements.truncate(MOST_STATEMENTS);
    statements
}

/// A text as it stands in an address.
pub fn escaped(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.:/".contains(&byte);
    text.bytes().map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}

/// The fragment that shows the wrong clips of a slice, `channel=radio`.
fn clips_of_slice(slice: &str) -> Option<String> {
    slice.contains('=').then(|| format!("clips&slice={}&result=wrong", escaped(slice)))
}

/// The fragment of the page that shows the clips behind a finding.
fn clips_of(comparison: &Comparison, finding: &Finding) -> String {
    let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!("&slice={}", escaped(slice)));
    let result = if finding.verdict == Verdict::Better { "won" } else { "lost" };
    let (first, second) = (escaped(&comparison.first), escaped(&comparison.second));
    format!("clips{slice}&result={result}&first={first}&second={second}")
}

/// The comparisons with those findings that have a verdict, and with those that have none.
fn by_verdict(comparisons: &[Comparison]) -> (Vec<Comparison>, Vec<Comparison>) {
    let with = |told: bool| {
        let of = |comparison: &Comparison| {
            let is_told = |finding: &&Finding| (finding.verdict != Verdict::CannotTell) == told;
            Comparison {
                findings: comparison.findings.iter().filter(is_told).cloned().collect(),
                ..comparison.clone()
            }
        };
        comparisons.iter().map(of).filter(|comparison| !comparison.findings.is_empty()).collect()
    };
    (with(true), with(false))
}

/// Recognisers and responders by the measures that matter for them.
fn head(names: &Names<'_>, sides: &[Side<'_>]) -> Vec<HtmlTable> {
    let [recognisers, _, _, responders] = by_kind(sides);
    let kinds = [(recognisers, show::KINDS[0]), (responders, show::KINDS[3])];
    let several = kinds.iter().filter(|(kind, _)| !kind.is_empty()).count() > 1;
    let tables = kinds.iter().filter(|(kind, _)| !kind.is_empty()).map(|(kind, title)| {
        let named: Vec<VariantView> = kind.iter().map(|side| named(names, *side)).collect();
        let renamed: Vec<Side<'_>> =
            kind.iter().zip(&named).map(|(side, variant)| Side { variant, ..*side }).collect();
        show::variants_by_what_matters(&renamed).titled(if several { *title } else { "" }).html()
    });
    tables.collect()
}

/// A variant under the name that the page gives it.
fn named(names: &Names<'_>, side: Side<'_>) -> VariantView {
    let mut variant = side.variant.clone();
    variant.variant.name = names.of(side);
    variant
}

fn cautions(comparisons: &[Comparison], sides: &[Side<'_>]) -> Vec<String> {
    let mut cautions: Vec<String> = comparisons.iter().flat_map(|comparison| comparison.cautions.clone()).collect();
    for side in sides.iter().filter(|side| side.variant.failed() > 0) {
        let outcomes = side.variant.extras.outcomes.iter().map(|count| format!("{} {}", count.trials, count.outcome));
        cautions.push(format!("{}: {}", side.name(), outcomes.collect::<Vec<_>>().join(", ")));
    }
    let few: Vec<&Side<'_>> =
        sides.iter().filter(|side| side.variant.clips < FEW_CLIPS && side.variant.clips > 0).collect();
    let is_said = cautions.iter().any(|caution| caution.starts_with("only "));
    for alike in few.chunk_by(|a, b| a.variant.clips == b.variant.clips).filter(|_| !is_said) {
        let names: Vec<String> = alike.iter().map(|side| side.name()).collect();
        let clips = plural(alike[0].variant.clips, "clip");
        cautions.push(format!("only {clips}, so intervals are rough: {}", names.join(", ")));
    }
    for run in sides.iter().map(|side| side.run).filter(|run| !run.run.left_out.is_empty()) {
        let count = plural(run.run.left_out.len() as u64, "clip");
        cautions.push(format!("run {}: {count} could not be used", run.name()));
    }
    cautions.dedup();
    let mut seen = std::collections::HashSet::new();
    cautions.retain(|caution| seen.insert(caution.clone()));
    cautions
}

/// For each task its variants with their trials, and every measure they have.
fn summary(names: &Names<'_>, sides: &[Side<'_>]) -> Vec<HtmlTable> {
    let mut tables = Vec::new();
    for (group, title) in by_kind(sides).into_iter().zip(show::KINDS) {
        if group.is_empty() {
            continue;
        }
        let named: Vec<VariantView> = group.iter().map(|side| named(names, *side)).collect();
        let variants: Vec<&VariantView> = named.iter().collect();
        let note = "Failed trials have no answer. Figures count answered trials, warm-up left out, with their 95 % intervals over clips.";
        tables.push(show::variants_table(&variants).titled(title).html());
        tables.push(show::measures_table(&variants).titled(format!("{title}: every measure")).noted(note).html());
        for table in show::by_slice(&variants, None) {
            let titled = format!("{title}: {}", table.title);
            let note = table.note.replace("--format csv has", "fonex show --format csv has");
            tables.push(table.titled(titled).noted(note).html().linked("clips of", clips_of_slice));
        }
    }
    tables
}

/// Where the figures of some runs come from, as name and value.
pub fn facts(runs: &[RunView]) -> Vec<(String, String)> {
    let mut facts = Vec::new();
    for view in runs {
        let run = &view.run;
        let versions: Vec<String> = run
            .variants
            .iter()
            .map(|v| format!("{} {}", v.name, v.engine_version.as_deref().unwrap_or("(version not known)")))
            .collect();
        facts.push((format!("Run {}", view.name()), format!("plan {}, started {}", run.plan, run.started_at)));
        facts.push(("Variants".into(), versions.join("; ")));
        let checksum = run.corpus_checksum.get(..12).unwrap_or_default();
        facts.push(("Corpus".into(), format!("{}, SHA-256 {checksum}…", run.corpus_path)));
        let profile = format!("{}, SHA-256 {}…", view.profile().name, &profile_checksum(view.profile())[..12]);
        let scoring = format!("text profile {profile}, seed {}, Fonex {}", run.seed, run.fonex_version);
        facts.push(("Scored with".into(), scoring));
        facts.extend(run.notes.iter().map(|note| ("Note".to_owned(), note_in_words(note))));
        facts.extend(run.commit.clone().map(|commit| ("Commit".to_owned(), commit)));
        let machine = &run.machine;
        let cores = plural(machine.cores as u64, "core");
        facts.push((
            "Machine".into(),
            format!("{}, {cores}, {} MiB, {}", machine.cpu, machine.memory_mib, machine.os),
        ));
    }
    facts
}

/// How the figures were made, in a few lines.
fn method(runs: &[RunView], comparisons: &[Comparison]) -> Vec<String> {
    let mut lines = vec![
        "Word error rate: substituted, deleted and inserted words over the words said, of all clips together; both texts \
         after the text profile."
            .to_owned(),
        "Figures count answered trials, warm-up left out. A figure's interval holds it at 95 % for more clips like these."
            .to_owned(),
        "Latency counts from the moment the wait of a user begins, as percentiles over trials.".to_owned(),
    ];
    if !comparisons.is_empty() {
        lines.push(explained(comparisons).replace('\n', " ").trim_end().to_owned());
    }
    let under: Vec<String> = runs
        .iter()
        .filter_map(|run| Some(format!("run {} under the text profile {}", run.name(), run.scored_under.as_ref()?)))
        .collect();
    if !under.is_empty() {
        lines.push(format!("Scored otherwise than when it was made: {}.", under.join(", ")));
    }
    lines.push("The manual has every measure's formula and source: fonex measures ID prints them.".to_owned());
    lines
}
