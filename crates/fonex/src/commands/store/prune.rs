//! `fonex store prune`: what nobody wants any more goes.

use clap::Args;
use fonex_core::measures::FACTS_VERSION;
use fonex_formats::{Place, Problem};
use fonex_store::Pruning;
use serde::Serialize;

use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Runs go only where --before or --keep asks for it; with both, only runs that both let go. Runs with a label stay,
and so does a run that is being executed.

Examples, in the folder the demo made:
  fonex store prune --dry-run
  fonex store prune --before 2026-01-01 --keep 10 --dry-run"
)]
pub struct PruneOptions {
    /// Delete runs that started before this day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub before: Option<String>,
    /// Keep the newest so many runs of each plan
    #[arg(long, value_name = "N")]
    pub keep: Option<usize>,
    /// Delete runs with a label as well
    #[arg(long)]
    pub labelled: bool,
    /// Delete nothing; say what would go
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What went, or would.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct PruneReport {
    /// Whether nothing was deleted.
    dry_run: bool,
    /// Runs that go, oldest first.
    runs: Vec<GoingRun>,
    /// Runs that stay because they are being executed.
    executed: Vec<i64>,
    /// Columns of facts that nobody reads any more.
    facts: u64,
    /// Sound files to which no trial refers.
    sounds: u64,
    /// Their bytes.
    bytes: u64,
}

/// A run that goes.
#[derive(Serialize, schemars::JsonSchema)]
struct GoingRun {
    /// Its number.
    run: i64,
    /// Its label.
    #[serde(skip_serializing_if = "Option::is_none")]
    label: Option<String>,
    /// Its plan.
    plan: String,
}

pub(super) fn prune(options: &PruneOptions) -> Result<Code, Failure> {
    let before = options.before.as_deref().map(day).transpose()?;
    let store = options.bench.store().to_change()?;
    let (keep, labelled, dry_run) = (options.keep, options.labelled, options.dry_run);
    let pruned = store.prune(&Pruning { before, keep, labelled, facts_version: FACTS_VERSION, dry_run })?;
    let runs = pruned.runs.into_iter().map(|(run, label, plan)| GoingRun { run, label, plan }).collect();
    let report = PruneReport {
        dry_run,
        runs,
        executed: pruned.executed,
        facts: pruned.facts,
        sounds: pruned.sounds,
        bytes: pruned.bytes,
    };
    if options.format.format == Format::Json {
        output::print_json(&report)?;
        return Ok(Code::Done);
    }
    let verb = if dry_run { "Would delete" } else { "Deleted" };
    let mut text = String::new();
    for run in &report.runs {
        let label = run.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
        text += &format!("{verb} run {}{label} of plan {}.\n", run.run, run.plan);
    }
    for run in &report.executed {
        text += &format!("Run {run} is being executed, and stays.\n");
    }
    if report.facts > 0 {
        let what = plural(report.facts, "kept fact");
        text += &format!("{verb} {what} that nobody reads any more.\n");
    }
    if report.sounds > 0 {
        let mib = report.bytes as f64 / f64::from(1 << 20);
        let what = plural(report.sounds, "sound file");
        text += &format!("{verb} {what} to which no trial refers ({mib:.1} MiB).\n");
    }
    if text.is_empty() {
        text = "There is nothing to delete.\n".to_owned();
    }
    output::print_lines(&text)?;
    Ok(Code::Done)
}

/// The beginning of a day in UTC, in the form in which moments are stored.
fn day(typed: &str) -> Result<String, Problem> {
    let day: jiff::civil::Date = typed.parse().map_err(|_| {
        Problem::new(format!("\"{typed}\" is no day"), Place::default().field("--before"))
            .expected("a day such as 2026-01-31")
    })?;
    Ok(format!("{day}T00:00:00Z"))
}
