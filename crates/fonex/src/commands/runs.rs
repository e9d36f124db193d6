//! `fonex runs`: what is stored.

use fonex_store::RunState;
use serde::Serialize;

use crate::bench::existing_store;
use crate::cli::{Format, Runs};
use crate::failure::{Code, Failure};
use crate::output::{self, Table};

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

pub fn runs(options: &Runs) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
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
    let mut table = Table::new([">run", "label", "plan", "started", ">trials", ">failed", "state", "variants"]);
    for line in lines {
        let state = if line.state == RunState::Finished {
            "finished".to_owned()
        } else {
            format!("unfinished, {} planned", line.planned)
        };
        table.row([
            line.run.to_string(),
            line.label.unwrap_or_default(),
            line.plan,
            line.started_at.replace('T', " ").trim_end_matches('Z').to_owned(),
            line.trials.to_string(),
            line.failed.to_string(),
            state,
            line.variants.join(", "),
        ]);
    }
    output::print_table(&table, options.format.format)?;
    let studies = store.studies()?;
    if options.format.format == Format::Table && !studies.is_empty() {
        let mut table = Table::new([">study", "of", "made", "machine"]);
        for study in studies {
            let made = study.made_at.replace('T', " ").trim_end_matches('Z').to_owned();
            table.row([study.id.to_string(), study.kind.as_str().to_owned(), made, study.machine.cpu]);
        }
        output::print(&format!("\n{}", table.text()))?;
    }
    Ok(Code::Done)
}
