//! `fonex runs`: what is stored.

use clap::Args;
use fonex_store::{RunState, Store, Study, StudyKind};
use serde::Serialize;

use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table};
use fonex_run::existing_store;

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex runs")]
pub struct RunsOptions {
    /// List the studies of load and turns instead
    #[arg(long)]
    pub studies: bool,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// One stored run in short.
#[derive(Serialize)]
struct RunLine {
    run: i64,
    label: Option<String>,
    plan: String,
    started_at: String,
    state: RunState,
    variants: Vec<String>,
    planned: u64,
    trials: u64,
    failed: u64,
}

/// One stored study in short.
#[derive(Serialize)]
struct StudyLine {
    study: i64,
    of: StudyKind,
    made_at: String,
    machine: String,
}

pub fn runs(options: &RunsOptions) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
    if options.studies {
        return studies(&store, options.format.format);
    }
    let mut lines = Vec::new();
    for run in store.runs()? {
        let outcomes = store.outcomes(run.id)?;
        lines.push(RunLine {
            run: run.id,
            label: run.label,
            plan: run.plan,
            started_at: run.started_at,
            state: run.state,
            variants: run.variants.into_iter().map(|variant| variant.name).collect(),
            planned: run.planned,
            trials: outcomes.iter().map(|(_, trials)| trials).sum(),
            failed: outcomes.iter().filter(|(outcome, _)| !outcome.is_answer()).map(|(_, trials)| trials).sum(),
        });
    }
    if options.format.format == Format::Json {
        output::print_json(&lines)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new([
        ("run", 0),
        ("label", 0),
        ("plan", 1),
        ("started", 3),
        ("trials", 0),
        ("failed", 0),
        ("state", 2),
        ("variants", 4),
    ]);
    for line in lines {
        let state = if line.state == RunState::Finished {
            "finished".to_owned()
        } else {
            format!("unfinished, {} planned", line.planned)
        };
        table.row([
            Cell::Count(line.run as u64),
            Cell::text(line.label.unwrap_or_default()),
            Cell::text(line.plan),
            Cell::text(moment(&line.started_at)),
            Cell::Count(line.trials),
            Cell::Alarm(line.failed),
            Cell::text(state),
            Cell::text(line.variants.join(", ")),
        ]);
    }
    output::print_table(&table, options.format.format)?;
    if options.format.format == Format::Table && !store.studies()?.is_empty() {
        output::print("\nThere are studies of load or turns as well: fonex runs --studies lists them.\n")?;
    }
    Ok(Code::Done)
}

fn studies(store: &Store, form: Format) -> Result<Code, Failure> {
    let line = |(study, kept): (i64, Study)| StudyLine {
        study,
        of: kept.kind,
        made_at: kept.made_at,
        machine: kept.machine.cpu,
    };
    let lines: Vec<StudyLine> = store.studies()?.into_iter().map(line).collect();
    if form == Format::Json {
        output::print_json(&lines)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new([("study", 0), ("of", 0), ("made", 0), ("machine", 1)]);
    for line in lines {
        table.row([
            Cell::Count(line.study as u64),
            Cell::text(line.of.as_str()),
            Cell::text(moment(&line.made_at)),
            Cell::text(line.machine),
        ]);
    }
    output::print_table(&table, form)?;
    Ok(Code::Done)
}

/// A moment as people write it.
fn moment(rfc_3339: &str) -> String {
    rfc_3339.replace('T', " ").trim_end_matches('Z').to_owned()
}
