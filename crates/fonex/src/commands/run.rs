//! `fonex run`: execute a plan, or what is left of it, and sum it up.

use fonex_core::Outcome;
use fonex_store::{RunRef, Store};

use crate::analysis::RunView;
use crate::bench::{Bench, Plan, existing_store, open_store, read_bench};
use crate::cli::{Format, Run};
use crate::commands::show;
use crate::execute::{Execution, Forecast, execute, forecast, stop_on_interrupt};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, money, plural};

pub fn run(options: &Run) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let plan = bench.plan(options.plan.as_deref())?;
    if options.dry {
        // Looking must not make a store.
        let store = existing_store(&options.bench.bench).ok().filter(|_| !options.anew);
        return dry(options, &forecast(&bench, plan, options.label.as_deref(), store.as_ref())?);
    }
    let mut store = open_store(&options.bench.bench)?;
    let execution = execute_plan(options, &bench, plan, &mut store)?;
    if let Some(why) = &execution.stopped {
        output::caution(&format!("run {} was stopped: {why}", execution.run));
        eprintln!("  Every finished trial is kept. To resume: {}", again(options, &bench, plan));
        return Ok(Code::Interrupted);
    }
    let run = store.run(&RunRef::Number(execution.run))?.expect("a run just executed is in the store");
    let in_depth = options.format.format == Format::Json;
    let view = if in_depth { RunView::load_in_depth(&store, run)? } else { RunView::load_with_times(&store, run)? };
    show::print_run(&view, options.format.format)?;
    Ok(code(&execution, plan))
}

/// What would be sent, printed.
fn dry(options: &Run, forecast: &[Forecast]) -> Result<Code, Failure> {
    if options.format.format == Format::Json {
        output::print_json(&forecast)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new(["variant", ">trials", ">requests", ">characters", ">audio minutes", ">cost"]);
    for row in forecast {
        let cost = row.cost.map_or_else(|| "no price".to_owned(), |cost| money(cost, row.currency.as_deref()));
        let minutes = format!("{:.2}", row.used.audio_s / 60.0);
        table.row([
            row.variant.clone(),
            row.trials.to_string(),
            row.used.requests.to_string(),
            row.used.characters.to_string(),
            minutes,
            cost,
        ]);
    }
    if options.format.format != Format::Table {
        output::print_table(&table, options.format.format)?;
        return Ok(Code::Done);
    }
    output::print(&format!(
        "Nothing was sent. A run would send, when nothing has to be tried again:\n{}{}",
        table.text(),
        total(forecast)
    ))?;
    for row in forecast {
        if let Some(trials) = row.other_language {
            output::caution(&other_language(&row.variant, trials));
        }
    }
    Ok(Code::Done)
}

/// What it costs in all, where the currencies can be added up.
fn total(forecast: &[Forecast]) -> String {
    let priced: Vec<&Forecast> = forecast.iter().filter(|row| row.cost.is_some()).collect();
    let Some(first) = priced.first() else { return String::new() };
    if priced.iter().any(|row| row.currency != first.currency) {
        return "The currencies differ: there is no total.\n".to_owned();
    }
    let cost = priced.iter().filter_map(|row| row.cost).sum();
    format!("{} in all.\n", money(cost, first.currency.as_deref()))
}

/// A voice made for one language reads another.
pub fn other_language(variant: &str, clips: u64) -> String {
    format!("{variant} reads {} in a language that its voice does not list", plural(clips, "clip"))
}

/// Executes without printing the run, for the demo's weekly builds.
pub fn run_quietly(options: &Run) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let plan = bench.plan(options.plan.as_deref())?;
    let execution = execute_plan(options, &bench, plan, &mut open_store(&options.bench.bench)?)?;
    Ok(if execution.stopped.is_some() { Code::Interrupted } else { code(&execution, plan) })
}

fn execute_plan(options: &Run, bench: &Bench, plan: &Plan, store: &mut Store) -> Result<Execution, Failure> {
    let stop = stop_on_interrupt();
    let execution = execute(bench, plan, options.label.as_deref(), options.anew, store, &stop)?;
    say_what_happened(&execution);
    Ok(execution)
}

/// What a person must know that the tables do not say.
fn say_what_happened(execution: &Execution) {
    if execution.resumed_with > 0 {
        eprintln!("Resumed run {}: {} were done before.", execution.run, plural(execution.resumed_with, "trial"));
    }
    for left_out in execution.left_out.iter().take(5) {
        output::caution(&format!("clip {} is left out: {}", left_out.clip_id, left_out.reason));
    }
    if let Some(more) = execution.left_out.len().checked_sub(6) {
        output::caution(&format!("{} more clips are left out; fonex show --format json lists them", more + 1));
    }
    for why in &execution.not_begun {
        output::caution(&format!("trials were left out: {why}"));
    }
    if !execution.not_begun.is_empty() {
        eprintln!("  Run {} stays unfinished; the same command goes on with it.", execution.run);
    }
    if execution.failed > 0 {
        let answer = [Outcome::Done, Outcome::Nothing].map(Outcome::as_str).join(" or ");
        output::caution(&format!("{} ended otherwise than {answer}", plural(execution.failed, "trial")));
    }
}

/// The command that goes on where this one was stopped.
fn again(options: &Run, bench: &Bench, plan: &Plan) -> String {
    let mut command = format!("fonex run {}", plan.name);
    if let Some(label) = &options.label {
        command += &format!(" --label {label}");
    }
    for set in &options.overrides {
        command += &format!(" --set '{set}'");
    }
    if bench.path.as_os_str() != "fonex.toml" {
        command += &format!(" --bench {}", bench.path.display());
    }
    command
}

fn code(execution: &Execution, plan: &Plan) -> Code {
    if execution.failed > plan.allow_failed || !execution.left_out.is_empty() || !execution.not_begun.is_empty() {
        Code::TrialsFailed
    } else {
        Code::Done
    }
}
