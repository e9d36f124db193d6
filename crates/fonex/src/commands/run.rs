//! `fonex run`: execute a plan, or what is left of it, and sum it up.

use fonex_core::Outcome;
use fonex_store::{RunRef, Store};

use crate::analysis::RunView;
use crate::bench::{Bench, Plan, open_store, read_bench};
use crate::cli::Run;
use crate::commands::show;
use crate::execute::{Execution, execute, stop_on_interrupt};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

pub fn run(options: &Run) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let plan = bench.plan(options.plan.as_deref())?;
    let mut store = open_store(&options.bench.bench)?;
    let execution = execute_plan(options, &bench, plan, &mut store)?;
    if let Some(why) = &execution.stopped {
        output::caution(&format!("run {} was stopped: {why}", execution.run));
        eprintln!("  Every finished trial is kept. To resume: {}", again(options, &bench, plan));
        return Ok(Code::Interrupted);
    }
    let run = store.run(&RunRef::Number(execution.run))?.expect("a run just executed is in the store");
    show::print_run(&RunView::load(&store, run)?, options.format.format)?;
    Ok(code(&execution, plan))
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
    if execution.failed > plan.allow_failed || !execution.left_out.is_empty() {
        Code::TrialsFailed
    } else {
        Code::Done
    }
}
