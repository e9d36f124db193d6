//! `fonex store copy`: from one store to another, run by run.

use std::path::PathBuf;

use clap::Args;
use fonex_formats::{Place, Problem};
use fonex_run::{Interrupt, StoreChoice};
use fonex_store::CopiedRun;
use serde::Serialize;

use crate::cli::{Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Each run is copied whole or not at all, with its labels, facts and sound, and counted and checksummed on
both sides. What is there already is left: a copy that was broken off goes on where it was.

Examples, in the folder the demo made:
  fonex store copy . elsewhere
  fonex store copy . postgres://ann@db.example/bench   # needs a server"
)]
pub struct CopyOptions {
    /// The store that is read: a folder, or postgres://USER@HOST/DATABASE
    #[arg(value_name = "FROM")]
    pub from: String,
    /// The store that is written to, made if need be
    #[arg(value_name = "TO")]
    pub to: String,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What became of each run, and of the studies.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct CopyReport {
    /// Every run of the store that was read, oldest first.
    runs: Vec<RunLine>,
    /// Studies that were copied.
    studies: u64,
}

/// What became of a run.
#[derive(Serialize, schemars::JsonSchema)]
struct RunLine {
    /// Its number in the store that was read.
    run: i64,
    /// Its number in the other.
    there: i64,
    /// Its plan.
    plan: String,
    /// Whether it was copied, was there already, or is there with other trials and was left.
    became: Became,
    /// Its trials.
    trials: u64,
    /// Sound files that came with it.
    #[serde(default, skip_serializing_if = "is_zero")]
    sounds: u64,
    /// Sound files that are lost in the store that was read, or damaged.
    #[serde(default, skip_serializing_if = "is_zero")]
    sounds_lost: u64,
}

/// What became of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Became {
    /// It was copied.
    Copied,
    /// It was there already.
    There,
    /// It is there with other trials, and was left as it is.
    Differs,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde calls it")]
const fn is_zero(count: &u64) -> bool {
    *count == 0
}

pub(super) fn copy(options: &CopyOptions) -> Result<Code, Failure> {
    let choice = |named: &str| StoreChoice { bench: PathBuf::from("fonex.toml"), named: Some(named.to_owned()) };
    let from = choice(&options.from).existing()?;
    let (one, other) = (choice(&options.from).place()?.to_string(), choice(&options.to).place()?.to_string());
    if one == other {
        let problem = Problem::new(format!("{one} would be copied to itself"), Place::default());
        return Err(problem.expected("two stores").into());
    }
    let to = choice(&options.to).open()?;
    let interrupt = Interrupt::listen();
    let _heeding = interrupt.heed();
    let runs = from.listed_runs()?;
    let bar = output::count_bar("copying", runs.len() as u64, "runs");
    let mut report = CopyReport { runs: Vec::new(), studies: 0 };
    for run in &runs {
        if interrupt.flag().is_set() {
            bar.finish_and_clear();
            output::note("Stopped. The same command goes on with the runs that are left.");
            return Ok(Code::Interrupted);
        }
        let line = |there, became, trials| RunLine {
            run: run.id,
            there,
            plan: run.plan.clone(),
            became,
            trials,
            sounds: 0,
            sounds_lost: 0,
        };
        report.runs.push(match from.copy_run(run.id, &to)? {
            CopiedRun::Copied { run, trials, sounds, lost } => {
                RunLine { sounds, sounds_lost: lost, ..line(run, Became::Copied, trials) }
            }
            CopiedRun::There { run: there } => line(there, Became::There, from.trial_count(run.id)?),
            CopiedRun::Differs { run: there, here, .. } => line(there, Became::Differs, here),
        });
        bar.inc(1);
    }
    report.studies = from.copy_studies(&to)?;
    bar.finish_and_clear();
    show(&report, options.format.format, &other)?;
    let left = report.runs.iter().filter(|line| line.became == Became::Differs).count();
    if left > 0 {
        let what = plural(left as u64, "run");
        output::caution(&format!("{what} of the same plan and moment has other trials there, and was left as it is"));
    }
    let lost: u64 = report.runs.iter().map(|line| line.sounds_lost).sum();
    if lost > 0 {
        let what = plural(lost, "sound file");
        output::caution(&format!("{what} could not be copied: missing or damaged (fonex store check tells which)"));
    }
    Ok(if left > 0 { Code::WrongUse } else { Code::Done })
}

fn show(report: &CopyReport, format: Format, to: &str) -> Result<(), Failure> {
    if format == Format::Json {
        return output::print_json(report);
    }
    let mut table =
        Table::new([("run", 0), ("run there", 0), ("plan", 1), ("trials", 0), ("sounds", 0), ("became", 1)]);
    for line in &report.runs {
        let became = match line.became {
            Became::Copied => Cell::text("copied"),
            Became::There => Cell::text("was there"),
            Became::Differs => Cell::Warning("differs, left".to_owned()),
        };
        table.row([
            Cell::Count(line.run as u64),
            Cell::Count(line.there as u64),
            Cell::text(&*line.plan),
            Cell::Count(line.trials),
            Cell::Count(line.sounds),
            became,
        ]);
    }
    output::print_table(&table, format)?;
    if format == Format::Table {
        let copied: Vec<&RunLine> = report.runs.iter().filter(|line| line.became == Became::Copied).collect();
        let (runs, trials) = (copied.len() as u64, copied.iter().map(|line| line.trials).sum());
        let (runs, trials) = (plural(runs, "run"), plural(trials, "trial"));
        let studies = if report.studies == 1 { "1 study".to_owned() } else { format!("{} studies", report.studies) };
        output::print_lines(&format!("\nCopied {runs} with {trials} and {studies} to {to}; checksums agree.\n"))?;
    }
    Ok(())
}
