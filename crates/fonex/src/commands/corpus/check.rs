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
use crate::cli::{Format, FormatArg};
use crate::commands::power::{ONE_PAIR, least_difference_in_words};
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
    /// Maximum number of problems of each kind to show
    #[arg(long, default_value_t = 5, value_name = "N")]
    pub limit: usize,
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
            let least = least_difference_in_words(&clips, &bench_profile, ONE_PAIR);
            let tried = checked.on_trial.as_ref().map(|tried| suspects::page(tried, options.limit));
            output::print(&format!("{}{least}{}", page(&checked, options.limit), tried.unwrap_or_default()))?;
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

fn page(checked: &Checked, most: usize) -> String {
    let mut text = format!(
        "{}: {}, {}, {}\n",
        plural(checked.clips, "clip"),
        plural(checked.errors, "error"),
        plural(checked.warnings, "warning"),
        plural(checked.notes, "note")
    );
    if checked.accepted > 0 {
        text += &format!(
            "{} accepted by a tag of the clip or by the bench file\n",
            plural(checked.accepted, "complaint")
        );
    }
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
