//! `fonex` alone: where one stands, and what to do next.

use std::path::{Path, PathBuf};

use fonex_run::{Bench, StoreChoice, read_bench};
use fonex_store::{ListedRun, RunRef, RunState, Store};

use super::{load_run, mattering, show};
use crate::brief::Brief;
use crate::cli::{BenchArg, Format};
use crate::failure::{Code, Failure};
use crate::output::plural;

/// Trials of a run whose answer is given here; larger ones take a moment.
const MOST_TRIALS: u64 = 20_000;

pub fn status() -> Result<Code, Failure> {
    let bench = BenchArg { bench: PathBuf::from("fonex.toml"), store: None };
    if !bench.bench.is_file() {
        let brief = Brief {
            heading: "No bench file (fonex.toml) in this folder".to_owned(),
            answer: vec![
                "fonex demo makes a folder with one, runs it and explains it; fonex init writes one to fill in."
                    .to_owned(),
            ],
            more: vec!["fonex demo".to_owned(), "fonex init".to_owned(), "fonex --help".to_owned()],
            ..Brief::default()
        };
        brief.print(Format::Table)?;
        return Ok(Code::Done);
    }
    let read = read_bench(&bench.bench, &[])?;
    let mut brief = Brief { heading: heading(&read), ..Brief::default() };
    let choice: StoreChoice = bench.store();
    let store = choice.existing().ok();
    let runs = store.as_ref().map_or_else(|| Ok(Vec::new()), Store::listed_runs)?;
    let plan = read.plans.keys().next().cloned();
    match (store, runs.last()) {
        (Some(mut store), Some(last)) => {
            brief.answer = answer(&mut store, last, &bench)?;
            brief.more = next(last, &runs, &read);
        }
        _ => {
            brief.answer.push("Nothing was run here yet.".to_owned());
            brief.more.extend(read.corpus.as_ref().map(|corpus| format!("fonex corpus check {corpus}")));
            brief.more.extend(plan.map(|plan| format!("fonex run {plan}")));
        }
    }
    for (name, problem) in &read.broken.engines {
        brief.stands_out.push(format!("engine {name} cannot be used: {}", problem.what));
    }
    brief.more.push("fonex --help".to_owned());
    brief.print(Format::Table)?;
    Ok(Code::Done)
}

/// `In fonex-demo: corpus.jsonl, 7 engines, 9 plans`.
fn heading(bench: &Bench) -> String {
    let here = std::env::current_dir().ok();
    let folder = here
        .as_deref()
        .and_then(Path::file_name)
        .map_or_else(|| "this folder".to_owned(), |name| name.to_string_lossy().into_owned());
    let corpus = bench.corpus.as_ref().map_or_else(String::new, |corpus| format!("{corpus}, "));
    let engines = plural(bench.engines.len() as u64, "engine");
    format!("In {folder}: {corpus}{engines}, {}", plural(bench.plans.len() as u64, "plan"))
}

/// What the last run came to.
fn answer(store: &mut Store, last: &ListedRun, bench: &BenchArg) -> Result<Vec<String>, Failure> {
    let label = last.label.as_ref().map_or_else(String::new, |label| format!(" ({label})"));
    let name = format!("run {}{label}, plan {}", last.id, last.plan);
    let trials: u64 = last.outcomes.iter().map(|(_, trials)| trials).sum();
    if last.state == RunState::Unfinished {
        return Ok(vec![format!(
            "The last one, {name}, is unfinished: {trials} of {}.",
            plural(last.planned, "trial")
        )]);
    }
    let run = store.run(&RunRef::Number(last.id))?.filter(|_| trials <= MOST_TRIALS);
    let Some(run) = run else {
        return Ok(vec![format!("The last one is {name}: {}.", plural(trials, "trial"))]);
    };
    let view = load_run(store, run, None, &show::wanted_for(Format::Table, Vec::new()))?;
    let mut lines = vec![format!("The last one is {name}:")];
    lines.extend(show::sentences(store, &view, &mattering(bench)?)?);
    Ok(lines)
}

/// The commands that come next.
fn next(last: &ListedRun, runs: &[ListedRun], bench: &Bench) -> Vec<String> {
    let name = last.label.clone().unwrap_or_else(|| last.id.to_string());
    if last.state == RunState::Unfinished {
        return vec![format!("fonex run {} (resumes it)", last.plan)];
    }
    let mut next = vec![format!("fonex show {name}")];
    if bench.gate().is_ok_and(|gate| !gate.limits.is_empty()) {
        next.push(format!("fonex gate {name}"));
    }
    let earlier = runs.iter().rev().skip(1).find(|run| run.plan == last.plan);
    next.extend(
        earlier
            .map(|run| format!("fonex compare {} {name}", run.label.clone().unwrap_or_else(|| run.id.to_string()))),
    );
    next.push("fonex runs".to_owned());
    next
}
