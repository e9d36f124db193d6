//! `fonex run`: execute a plan, or what is left of it, and sum it up.

use clap::Args;
use fonex_core::{Clip, Delivery, Outcome, Task};
use fonex_store::{RunRef, RunState, Store, StorePlace};

use super::load_run;
use super::run_names::{check_label, find_run};
use fonex_analysis::Wanted;
use fonex_core::measures::{find, tell_own};

use crate::cli::{BenchArg, Format, FormatArg};
use crate::commands::show;
#[cfg(feature = "team")]
use crate::commands::spread::ServerArg;
use crate::failure::{Code, Failure};
use fonex_core::measures::Unit;
use fonex_run::{Bench, Plan, read_bench};
use fonex_run::{Execution, Forecast, Interrupt, Which, execute, forecast};

use crate::output::{self, Cell, RunBar, Table, money, plural};

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex run recognisers --label my-first")]
pub struct RunOptions {
    /// Plan of the bench file; optional when there is only one
    pub plan: Option<String>,
    /// Label of this run, such as a week or a build
    #[arg(long)]
    pub label: Option<String>,
    /// Commit of what is measured; without it, that of the repository around the bench file
    #[arg(long, value_name = "COMMIT", value_parser = short_name)]
    pub commit: Option<String>,
    /// Override a bench file value for this run, such as plan.hear.repeats=3
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    /// Have these recognisers hear what the plan's voices speak, instead of those the plan names
    #[arg(long, value_name = "ENGINE,ENGINE", value_delimiter = ',')]
    pub heard_by: Vec<String>,
    /// Send nothing; print what would be sent and what it would cost
    #[arg(long)]
    #[cfg_attr(feature = "team", arg(conflicts_with = "spread"))]
    pub dry_run: bool,
    /// Start a new run even if an interrupted one could be resumed, or an earlier run has the label
    #[arg(long, alias = "anew")]
    pub again: bool,
    /// Repeat the failed trials of a run, in the same run, and run the trials it has left
    #[arg(long, value_name = "RUN", num_args = 0..=1, default_missing_value = "last",
          conflicts_with_all = ["plan", "label", "commit", "overrides", "heard_by", "again", "dry_run"])]
    #[cfg_attr(feature = "team", arg(conflicts_with = "spread"))]
    pub failed: Option<String>,
    /// With --failed: only trials that ended so, such as refused,late
    #[arg(long, value_name = "OUTCOME,OUTCOME", value_delimiter = ',', requires = "failed", value_parser = failing)]
    pub outcome: Vec<Outcome>,
    #[cfg(feature = "team")]
    #[command(flatten)]
    pub spreading: SpreadArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// How a run is spread.
#[cfg(feature = "team")]
#[derive(Debug, Default, Args)]
pub struct SpreadArg {
    #[command(flatten)]
    pub server: ServerArg,
    /// With --spread: only workers of this class of machine, so that latencies can be held against each other
    #[arg(long, value_name = "CLASS", requires = "spread")]
    pub only_class: Option<String>,
    /// With --spread: seconds after which trials of a silent worker come again
    #[arg(long, value_name = "SECONDS", default_value_t = 60, requires = "spread", value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub lease: u64,
    /// With --spread: workers that may vanish over the same trials before these are given up
    #[arg(long, value_name = "N", default_value_t = 5, requires = "spread", value_parser = clap::value_parser!(u32).range(1..=1_000))]
    pub deliveries: u32,
}

/// A name of a commit: one word that fits a line.
fn short_name(typed: &str) -> Result<String, String> {
    let fits = (1..=80).contains(&typed.len()) && typed.bytes().all(|byte| byte.is_ascii_graphic());
    if fits { Ok(typed.to_owned()) } else { Err("expected a word of up to 80 letters, digits and signs".to_owned()) }
}

/// An outcome of a trial that has no answer.
fn failing(typed: &str) -> Result<Outcome, String> {
    typed
        .parse()
        .ok()
        .filter(|outcome| FAILURES.contains(outcome))
        .ok_or_else(|| format!("expected one of {}", FAILURES.map(Outcome::as_str).join(", ")))
}

/// Outcomes that --failed repeats.
const FAILURES: [Outcome; 5] =
    [Outcome::Unclear, Outcome::Refused, Outcome::Unreachable, Outcome::Late, Outcome::Broken];

/// The bench file with what the command line changes in it.
fn bench_of(options: &RunOptions) -> Result<Bench, Failure> {
    let mut bench = read_bench(&options.bench.bench, &options.overrides)?;
    bench.commit.clone_from(&options.commit);
    if options.heard_by.is_empty() {
        return Ok(bench);
    }
    let plan = &bench.plan(options.plan.as_deref())?.name;
    let heard_by = format!("plan.{plan}.heard_by={}", serde_json::json!(options.heard_by));
    let overrides: Vec<String> = options.overrides.iter().cloned().chain([heard_by]).collect();
    let mut bench = read_bench(&options.bench.bench, &overrides)?;
    bench.commit.clone_from(&options.commit);
    Ok(bench)
}

pub fn run(options: &RunOptions) -> Result<Code, Failure> {
    if let Some(typed) = &options.failed {
        return run_failed(options, typed);
    }
    let bench = bench_of(options)?;
    let plan = bench.plan(options.plan.as_deref())?;
    if options.dry_run {
        // Looking must not make a store.
        let store = options.bench.store().existing().ok().filter(|_| !options.again);
        let mut forecast = forecast(&bench, plan, options.label.as_deref(), store.as_ref())?;
        let from = match options.bench.store().existing() {
            Ok(mut store) => expect_times(&mut store, plan, &mut forecast)?,
            Err(_) => None,
        };
        let notes = duration(plan, &forecast, from) + &least_difference_of(&bench, plan)?;
        return dry_run(options, &forecast, &notes);
    }
    let which = if options.again { Which::Anew } else { Which::Resumed };
    let mut store = options.bench.store().open()?;
    run_and_show(options, &bench, plan, &mut store, which(options.label.as_deref()))
}

/// Repeats the failed trials of a run.
fn run_failed(options: &RunOptions, typed: &str) -> Result<Code, Failure> {
    let mut store = options.bench.store().existing()?;
    let run = find_run(&store, typed)?;
    let outcomes = if options.outcome.is_empty() { FAILURES.to_vec() } else { options.outcome.clone() };
    let failed = store.failed(run.id)?;
    let again = failed.iter().filter(|(_, outcome)| outcomes.contains(outcome)).count();
    if again == 0 && run.state == RunState::Finished {
        let how = if options.outcome.is_empty() { "" } else { " so" };
        output::note(&format!("Nothing to repeat: no trial of run {} failed{how}.", run.id));
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench.bench, &run.overrides)?;
    let plan = bench.plan(Some(&run.plan))?;
    output::note(&format!("Repeating {} of run {}.", plural(again as u64, "failed trial"), run.id));
    run_and_show(options, &bench, plan, &mut store, Which::Failed(run.id, &outcomes))
}

fn run_and_show(
    options: &RunOptions,
    bench: &Bench,
    plan: &Plan,
    store: &mut Store,
    which: Which<'_>,
) -> Result<Code, Failure> {
    bench.broken.measures.iter().for_each(|problem| output::caution(&problem.to_string()));
    tell_own(bench.own.clone());
    let execution = execute_plan(options, bench, plan, store, which)?;
    if let Some(why) = &execution.stopped {
        output::caution(&format!("run {} was interrupted: {why}", execution.run));
        output::note(&format!("  Every finished trial is kept. To resume: {}", again(options, bench, plan)));
        return Ok(Code::Interrupted);
    }
    let run = store.run(&RunRef::Number(execution.run))?.expect("a run just executed is in the store");
    let view = load_run(store, run, None, &show::wanted_for(options.format.format, Vec::new()))?;
    let printed = show::Printed {
        format: options.format.format,
        recordings: None,
        matters: bench.matters()?,
        sections: &[],
        worst: 0,
        next: Vec::new(),
    };
    show::print_run(store, &view, printed)?;
    Ok(code(&execution, plan))
}

/// What would be sent, printed.
fn dry_run(options: &RunOptions, forecast: &[Forecast], least: &str) -> Result<Code, Failure> {
    if options.format.format == Format::Json {
        output::print_json(&forecast)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new([
        ("variant", 0),
        ("trials", 0),
        ("requests", 1),
        ("characters", 2),
        ("audio seconds", 2),
        ("cost", 0),
        ("currency", 3),
    ]);
    for row in forecast {
        table.row([
            Cell::text(row.variant.as_str()),
            Cell::Count(row.trials),
            Cell::Count(row.used.requests),
            Cell::Count(row.used.characters),
            Cell::Figure(Unit::S, row.used.audio_s),
            Cell::figure(Unit::Money, row.cost),
            row.currency.as_ref().map_or(Cell::Empty, |currency| Cell::text(currency.as_str())),
        ]);
    }
    if options.format.format != Format::Table {
        output::print_table(&table, options.format.format)?;
        return Ok(Code::Done);
    }
    output::print_lines(&format!(
        "Nothing was sent. Without retries, a run would send:\n{}{}{}",
        output::text(&table),
        total(forecast),
        least
    ))?;
    for row in forecast {
        if let Some(trials) = row.other_language {
            output::caution(&other_language(&row.variant, trials));
        }
    }
    Ok(Code::Done)
}

/// Fills in how long trials take, by the median latencies of the latest finished run of the plan; gives its number.
fn expect_times(store: &mut Store, plan: &Plan, forecast: &mut [Forecast]) -> Result<Option<i64>, Failure> {
    let unknown = |row: &Forecast| row.expected_s.is_none() && row.trials > 0;
    if !forecast.iter().any(unknown) {
        return Ok(None);
    }
    let earlier =
        store.runs()?.into_iter().rev().find(|run| run.plan == plan.name && run.state == RunState::Finished);
    let (Some(run), Some(latency)) = (earlier, find("latency_p50")) else { return Ok(None) };
    let number = run.id;
    let view = load_run(store, run, None, &Wanted { measures: vec![latency], ..Wanted::default() })?;
    for row in forecast.iter_mut().filter(|row| unknown(row)) {
        let earlier = view.variants.iter().find(|variant| variant.variant.name == row.variant);
        let median_ms = earlier.and_then(|variant| variant.measures.get(latency.id)).map(|estimate| estimate.value);
        row.expected_s = median_ms.map(|ms| ms / 1e3 * row.trials as f64);
    }
    Ok(Some(number))
}

/// About how long the run takes, in a sentence.
fn duration(plan: &Plan, forecast: &[Forecast], from: Option<i64>) -> String {
    let trials: u64 = forecast.iter().map(|row| row.trials).sum();
    if trials == 0 {
        return String::new();
    }
    let known: f64 = forecast.iter().filter_map(|row| row.expected_s).sum();
    let open: Vec<&str> = forecast
        .iter()
        .filter(|row| row.trials > 0 && row.expected_s.is_none())
        .map(|row| row.variant.as_str())
        .collect();
    if open.len() == forecast.len() {
        return "How long it takes is not known before a first run of the plan.\n".to_owned();
    }
    let at_once = plan.concurrency.max(1);
    let seconds = known / at_once as f64;
    let how_long = match seconds {
        ..1.0 => "less than a second".to_owned(),
        1.0..120.0 => format!("{seconds:.0} s"),
        120.0..7_200.0 => format!("{:.0} minutes", seconds / 60.0),
        _ => format!("{:.1} hours", seconds / 3_600.0),
    };
    let from = from.map_or_else(String::new, |run| format!(", by the latencies of run {run}"));
    let without = if open.is_empty() { String::new() } else { format!("; not known for {}", open.join(", ")) };
    format!("It takes about {how_long} with {at_once} at once{from}{without}.\n")
}

/// What the clips of a plan can tell at all.
fn least_difference_of(bench: &Bench, plan: &Plan) -> Result<String, Failure> {
    let corpus = bench.read_corpus(Some(plan))?;
    let clips: Vec<&Clip> = corpus.clips.iter().filter(|clip| plan.selects(clip)).collect();
    let recognisers = plan.variants.iter().filter(|variant| variant.task == Task::Hear).count();
    Ok(match recognisers {
        0 => String::new(),
        // Each is held against the first.
        several => super::power::least_difference_in_words(&clips, &bench.text_profile, several - 1),
    })
}

/// What it costs in all, where the currencies can be added up.
fn total(forecast: &[Forecast]) -> String {
    let priced: Vec<&Forecast> = forecast.iter().filter(|row| row.cost.is_some()).collect();
    let Some(first) = priced.first() else { return String::new() };
    if priced.iter().any(|row| row.currency != first.currency) {
        return "The currencies differ, so there is no total.\n".to_owned();
    }
    let cost = priced.iter().filter_map(|row| row.cost).sum();
    format!("{} in all.\n", money(cost, first.currency.as_deref()))
}

/// A voice made for one language reads another.
pub fn other_language(variant: &str, clips: u64) -> String {
    format!("{variant} speaks {} in a language that its voice does not list", plural(clips, "clip"))
}

/// The name of the plan, and how it delivers audio to each recogniser.
pub fn planned_deliveries(options: &RunOptions) -> Result<(String, Vec<Delivery>), Failure> {
    let bench = bench_of(options)?;
    let plan = bench.plan(options.plan.as_deref())?;
    let hears = plan.variants.iter().filter(|variant| variant.task == Task::Hear);
    Ok((plan.name.clone(), hears.map(|variant| variant.delivery).collect()))
}

/// Executes without printing the run; gives its number.
pub fn run_quietly(options: &RunOptions) -> Result<(Code, i64), Failure> {
    let bench = bench_of(options)?;
    let plan = bench.plan(options.plan.as_deref())?;
    let which = Which::Resumed(options.label.as_deref());
    let execution = execute_plan(options, &bench, plan, &mut options.bench.store().open()?, which)?;
    let code = if execution.stopped.is_some() { Code::Interrupted } else { code(&execution, plan) };
    Ok((code, execution.run))
}

fn execute_plan(
    options: &RunOptions,
    bench: &Bench,
    plan: &Plan,
    store: &mut Store,
    which: Which<'_>,
) -> Result<Execution, Failure> {
    if let Some(label) = &options.label {
        check_label(label)?;
    }
    let interrupt = Interrupt::listen();
    let bar = RunBar::default();
    #[cfg(feature = "team")]
    let spreading = &options.spreading;
    #[cfg(feature = "team")]
    if let Some(address) = spreading.server.address(&options.bench.bench)? {
        let how = fonex_run::SpreadOptions {
            class: spreading.only_class.clone(),
            lease: std::time::Duration::from_secs(spreading.lease),
            most_deliveries: spreading.deliveries,
        };
        let execution = fonex_run::execute_spread(bench, plan, which, store, &interrupt, &bar, (&address, &how))?;
        say_what_happened(&execution);
        return Ok(execution);
    }
    let execution = execute(bench, plan, which, store, &interrupt, &bar)?;
    say_what_happened(&execution);
    Ok(execution)
}

/// What a person must know that the tables do not say.
fn say_what_happened(execution: &Execution) {
    for why in &execution.not_begun {
        output::caution(&format!("trials were left out: {why}"));
    }
    if !execution.not_begun.is_empty() {
        output::note(&format!(
            "  Run {0} stays unfinished. The same command resumes it; fonex run --failed {0} makes its failed trials again as well.",
            execution.run
        ));
    }
    if execution.resumed_with > 0 {
        output::note(&format!(
            "Resumed run {}: {} were done before.",
            execution.run,
            plural(execution.resumed_with, "trial")
        ));
    }
    for left_out in execution.left_out.iter().take(5) {
        output::caution(&format!("clip {} is left out: {}", left_out.clip_id, left_out.reason));
    }
    if let Some(more) = execution.left_out.len().checked_sub(6) {
        output::caution(&format!("{} more clips are left out; fonex show --format json lists them", more + 1));
    }
    if execution.failed > 0 {
        output::caution(&format!("{} failed: they have no answer", plural(execution.failed, "trial")));
    }
}

/// The command that resumes what was stopped here.
fn again(options: &RunOptions, bench: &Bench, plan: &Plan) -> String {
    let mut command = match &options.failed {
        Some(run) => format!("fonex run --failed {run}"),
        None => format!("fonex run {}", plan.name),
    };
    if let Some(label) = &options.label {
        command += &format!(" --label {label}");
    }
    for set in &options.overrides {
        command += &format!(" --set '{set}'");
    }
    if !options.heard_by.is_empty() {
        command += &format!(" --heard-by {}", options.heard_by.join(","));
    }
    if bench.path.as_os_str() != "fonex.toml" {
        command += &format!(" --bench {}", bench.path.display());
    }
    // An address with a password is not repeated on a screen.
    if let Some(store) = options.bench.store.as_ref().filter(|store| !StorePlace::has_password(store)) {
        command += &format!(" --store '{store}'");
    }
    #[cfg(feature = "team")]
    command.push_str(&options.spreading.server.again());
    command
}

fn code(execution: &Execution, plan: &Plan) -> Code {
    if execution.failed > plan.allow_failed || !execution.left_out.is_empty() || !execution.not_begun.is_empty() {
        Code::TrialsFailed
    } else {
        Code::Done
    }
}
