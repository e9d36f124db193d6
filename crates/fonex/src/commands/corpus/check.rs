//! `fonex corpus check`: everything that would spoil a run, with severity, place and remedy.

use clap::Args;
use std::collections::BTreeMap;
use std::path::PathBuf;

use fonex_analysis::LabelsOnTrial;
use fonex_core::material::{Accepted, Check, Complaint, CorpusCheck, Severity, TakenAudio};
use fonex_core::text::TextProfile;
use fonex_engines::{EngineConfig, Task, Transport};
use fonex_formats::read_corpus;
use serde::Serialize;

use fonex_core::Clip;

use super::suspects;
use crate::brief::Brief;
use crate::cli::{Format, FormatArg};
use crate::commands::power::{ONE_PAIR, clips_needed_in_words, least_difference_in_words};
use crate::facts::audio_facts;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};
use fonex_run::read_bench;

#[derive(Debug, Args)]
#[command(after_help = "Exits with code 3 when there is an error (with --warnings: or a warning).
Examples, in the folder the demo made:
  fonex corpus check corpus.jsonl
  fonex corpus check corpus.jsonl --with 1     labels that several engines agree against")]
pub struct CorpusCheckOptions {
    /// Corpus, in any supported form
    pub corpus: PathBuf,
    /// Bench file whose text profile and sample rates to check against; by default fonex.toml if it exists
    #[arg(short, long, value_name = "FILE")]
    pub bench: Option<PathBuf>,
    /// Put the labels on trial: rank those that the engines of these runs agree against; CSV and Markdown list these alone
    #[arg(long, value_name = "RUN", num_args = 1..)]
    pub with: Vec<String>,
    /// Exit with code 3 on warnings too
    #[arg(long)]
    pub warnings: bool,
    /// List every problem
    #[arg(long)]
    pub all: bool,
    /// List at most this many problems of each kind
    #[arg(long, value_name = "N")]
    pub limit: Option<usize>,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What `--format json` says.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Checked {
    clips: u64,
    errors: u64,
    warnings: u64,
    notes: u64,
    /// Complaints that are accepted, with a reason in a tag of the clip or in the bench file.
    accepted: u64,
    complaints: Vec<Complaint>,
    /// What the engines of some runs say of the labels.
    #[serde(skip_serializing_if = "Option::is_none")]
    on_trial: Option<LabelsOnTrial>,
}

pub fn check(options: &CorpusCheckOptions) -> Result<Code, Failure> {
    let corpus = read_corpus(&options.corpus)?;
    let Bench { profile, rates, accept } = of_bench(options)?;
    let facts = audio_facts(&corpus);
    let bench_profile = profile.clone();
    let mut check = CorpusCheck::new(profile, rates).accepting(accept);
    for (clip, facts) in corpus.clips.iter().zip(facts) {
        check.add(clip, facts);
    }
    let complaints = check.finish();
    let accepted = check.accepted();
    for (unused, _) in check.accepted_by().iter().filter(|(_, times)| *times == 0) {
        let clips = if unused.clips.is_empty() { String::new() } else { format!(" in {}", unused.clips.join(", ")) };
        output::caution(&format!(
            "the bench file accepts {}{clips}, but there is no such problem",
            unused.check.name()
        ));
    }
    let count = |severity| complaints.iter().filter(|c| c.severity == severity).count() as u64;
    let checked = Checked {
        clips: corpus.clips.len() as u64,
        errors: count(Severity::Error),
        warnings: count(Severity::Warning),
        notes: count(Severity::Note),
        accepted,
        complaints,
        on_trial: if options.with.is_empty() { None } else { Some(suspects::try_labels_of(options, &corpus.clips)?) },
    };
    let spoiled = checked.errors > 0 || options.warnings && checked.warnings > 0;
    match options.format.format {
        Format::Json => output::print_json(&checked)?,
        Format::Table => {
            let clips: Vec<&Clip> = corpus.clips.iter().collect();
            let least = least_difference_in_words(&clips, &bench_profile, ONE_PAIR).trim_end().to_owned();
            let needed = clips_needed_in_words(&clips, &bench_profile).trim_end().to_owned();
            let most = options.limit.unwrap_or(if options.all { usize::MAX } else { LIMIT });
            let mut answer = brief(&checked, &options.corpus.display().to_string());
            answer.answer.extend([least, needed].into_iter().filter(|line| !line.is_empty()));
            let list = if options.limit.is_some() || options.all { page(&checked, most) } else { String::new() };
            if !list.is_empty() {
                answer.more.clear();
            }
            answer.print(Format::Table)?;
            let tried = checked.on_trial.as_ref().map(|tried| suspects::page(tried, most));
            output::print_lines(&format!("{list}{}", tried.unwrap_or_default()))?;
        }
        form if checked.on_trial.is_some() => {
            let tried = checked.on_trial.as_ref().map(suspects::table).unwrap_or_default();
            output::print_table(&tried, form)?;
        }
        form => output::print_table(&table(&checked.complaints), form)?,
    }
    Ok(if spoiled { Code::TrialsFailed } else { Code::Done })
}

/// What the check needs of a bench file.
struct Bench {
    profile: TextProfile,
    rates: Vec<TakenAudio>,
    accept: Vec<Accepted>,
}

/// The bench file that is named or stands in the current folder; without one the neutral profile, and nothing is accepted.
fn of_bench(options: &CorpusCheckOptions) -> Result<Bench, Failure> {
    let path = options.bench.clone().unwrap_or_else(|| "fonex.toml".into());
    if options.bench.is_none() && !path.is_file() {
        let profile = TextProfile::shipped("neutral").expect("neutral is shipped");
        return Ok(Bench { profile, rates: Vec::new(), accept: Vec::new() });
    }
    let bench = read_bench(&path, &[])?;
    let hears = bench.engines.values().filter(|engine| engine.task == Task::Hear);
    let given = |engine: &&EngineConfig| !matches!(engine.transport, Transport::StandIn(_) | Transport::Recorded(_));
    let rates = hears.filter(given).map(|engine| TakenAudio {
        engine: engine.name.clone(),
        rate_hz: engine.audio.rate_hz,
        bits: engine.audio.bits,
    });
    Ok(Bench { profile: bench.text_profile, rates: rates.collect(), accept: bench.accept })
}

/// Complaints listed of each check.
const LIMIT: usize = 5;
/// Groups too small to conclude about that are named.
const MOST_GROUPS: usize = 4;

/// The answer: whether the corpus is fit to measure with, and what to repair first.
fn brief(checked: &Checked, corpus: &str) -> Brief {
    let clips = plural(checked.clips, "clip");
    let counts = [(checked.errors, "error"), (checked.warnings, "warning")].map(|(count, what)| match count {
        0 => format!("no {what}s"),
        some => plural(some, what),
    });
    let word = if checked.errors > 0 { "Not fit to measure with" } else { "Fit to measure with" };
    let mut brief = Brief { heading: format!("{word}: {clips}, {}", counts.join(", ")), ..Brief::default() };
    let mut by_check: BTreeMap<(Severity, Check), Vec<&Complaint>> = BTreeMap::new();
    for complaint in &checked.complaints {
        by_check.entry((complaint.severity, complaint.check)).or_default().push(complaint);
    }
    if let Some(((severity, check), complaints)) =
        by_check.iter().next().filter(|((severity, _), _)| *severity != Severity::Note)
    {
        let times = plural(complaints.len() as u64, severity.as_str());
        brief.answer.push(format!("Repair first: {} ({times}). {}", check.name(), check.remedy()));
    }
    let mut table = Table::new([("problem", 0), ("severity", 0), ("times", 0), ("such as", 0)]);
    for ((severity, check), complaints) in &by_check {
        if *check == Check::FewClips {
            brief.stands_out.push(format!("too few clips to conclude by group: {}", small_groups(complaints)));
            continue;
        }
        let first = complaints[0];
        let place = first.clip.as_deref().map_or_else(String::new, |clip| format!("{clip}: "));
        table.row([
            Cell::text(check.name()),
            Cell::text(severity.as_str()),
            Cell::Count(complaints.len() as u64),
            Cell::text(format!("{place}{}", first.what)),
        ]);
    }
    brief.tables = vec![table];
    if checked.accepted > 0 {
        let accepted = plural(checked.accepted, "complaint");
        brief.stands_out.push(format!("{accepted} accepted by a tag of the clip or by the bench file"));
    }
    let any = !checked.complaints.is_empty();
    brief.more.extend(any.then(|| format!("fonex corpus check {corpus} --all")));
    brief.more.push(format!("fonex corpus describe {corpus}"));
    brief
}

/// Groups with too few clips: of a tag with several the count.
fn small_groups(complaints: &[&Complaint]) -> String {
    let mut by_tag: Vec<(&str, Vec<&str>)> = Vec::new();
    for what in complaints.iter().map(|complaint| complaint.what.as_str()) {
        let group = what.split_once(" has ").map_or(what, |(group, _)| group);
        let tag = group.split_once('=').map_or(group, |(tag, _)| tag);
        match by_tag.iter_mut().find(|(known, _)| *known == tag) {
            Some((_, groups)) => groups.push(group),
            None => by_tag.push((tag, vec![group])),
        }
    }
    let named: Vec<String> = by_tag
        .iter()
        .map(|(tag, groups)| match groups.as_slice() {
            few if few.len() <= MOST_GROUPS => few.join(", "),
            many => format!("{} of {tag}", plural(many.len() as u64, "value")),
        })
        .collect();
    named.join("; ")
}

/// Every complaint, at most `most` of each check.
fn page(checked: &Checked, most: usize) -> String {
    let mut text = String::new();
    let mut by_check: BTreeMap<(Severity, Check), Vec<&Complaint>> = BTreeMap::new();
    for complaint in &checked.complaints {
        by_check.entry((complaint.severity, complaint.check)).or_default().push(complaint);
    }
    for ((severity, check), complaints) in by_check {
        text += &format!("\n{} {}: {}\n", severity.as_str(), check.name(), plural(complaints.len() as u64, "time"));
        for complaint in complaints.iter().take(most) {
            let place = complaint.clip.as_deref().map_or_else(String::new, |clip| format!("{clip}: "));
            text += &format!("  {place}{}\n", complaint.what);
        }
        if let Some(more) = complaints.len().checked_sub(most).filter(|more| *more > 0) {
            text += &format!("  and {more} more; --limit {} shows them\n", complaints.len());
        }
        text += &format!("  do: {}\n", check.remedy());
    }
    text
}

fn table(complaints: &[Complaint]) -> Table {
    let mut table = Table::new([("severity", 0), ("check", 0), ("clip", 0), ("what", 0), ("do", 1)]);
    for complaint in complaints {
        table.row([
            Cell::text(complaint.severity.as_str()),
            Cell::text(complaint.check.name()),
            Cell::text(complaint.clip.as_deref().unwrap_or_default()),
            Cell::text(complaint.what.as_str()),
            Cell::text(complaint.check.remedy()),
        ]);
    }
    table
}
