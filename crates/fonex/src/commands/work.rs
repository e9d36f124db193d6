//! `fonex work`: makes trials for runs that somebody else spreads.

use std::path::PathBuf;

use clap::Args;
use fonex_run::{
    Interrupt, Job, Lookout, SpreadAccess, WorkOptions, Working, clear, read_bench, this_machine, work as work_on,
};

use super::spread::{address, print_seen};
use crate::cli::{Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "A worker runs what its own bench file says, with keys from its own environment; jobs of another bench file, another version
or another class of machine are left alone.

Examples, in the folder the demo made, with a NATS server (nats-server -js):
  fonex work nats://localhost                                # needs a server
  fonex run recognisers --spread nats://localhost            # needs a server
  fonex work nats://localhost --list                         # needs a server"
)]
pub struct WorkCommand {
    /// The server between the machines: nats://USER@HOST:PORT or tls://... [env: FONEX_SPREAD; password: FONEX_SPREAD_PASSWORD]
    #[arg(value_name = "SERVER")]
    pub server: Option<String>,
    /// List the jobs and the workers there are, and end
    #[arg(long)]
    pub list: bool,
    /// Remove the jobs that nobody asks for any more, and end
    #[arg(long, conflicts_with = "list")]
    pub clear: bool,
    /// Name of this worker; by default that of the machine and the number of the process
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Class of this machine, for runs that are pinned to one; by default its processor and cores
    #[arg(long, value_name = "CLASS")]
    pub class: Option<String>,
    /// Trials at a time; by default what the plan says
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub concurrency: Option<u32>,
    /// End when there is no job left
    #[arg(long)]
    pub until_done: bool,
    /// Certificates to trust instead of the public authorities
    #[arg(long, value_name = "FILE")]
    pub ca: Option<PathBuf>,
    /// Credentials of a user, as the server's tools write them
    #[arg(long, value_name = "FILE")]
    pub credentials: Option<PathBuf>,
    /// A certificate of this machine, where the server asks for one
    #[arg(long, value_name = "FILE", requires = "key")]
    pub certificate: Option<PathBuf>,
    /// The key of that certificate
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub key: Option<PathBuf>,
    /// Override a bench file value, as the run does
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    /// Bench file
    #[arg(short, long, value_name = "FILE", default_value = "fonex.toml")]
    pub bench: PathBuf,
    #[command(flatten)]
    pub format: FormatArg,
}

/// A class of machine that a machine is of where nothing is said: its processor and cores.
pub(super) fn own_class() -> String {
    let machine = this_machine();
    format!("{}, {} cores", machine.cpu, machine.cores)
}

struct Told;

impl Working for Told {
    fn begins(&self, job: &Job) {
        let label = job.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
        output::note(&format!("Working on plan {}{label}.", job.plan));
    }

    fn leaves(&self, job: &Job, why: &str) {
        output::caution(&format!("a run of plan {} is left alone: {why}", job.plan));
    }
}

pub fn work(options: &WorkCommand) -> Result<Code, Failure> {
    let address = address(
        options.server.as_deref(),
        SpreadAccess {
            authorities: options.ca.clone(),
            credentials: options.credentials.clone(),
            certificate: options.certificate.clone().zip(options.key.clone()),
            password: None,
        },
        &options.bench,
    )?;
    if options.list {
        print_seen(&Lookout::open(&address)?.look()?, options.format.format)?;
        return Ok(Code::Done);
    }
    if options.clear {
        output::note(&format!("Removed {} that nobody asks for.", plural(clear(&address)?, "job")));
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench, &options.overrides)?;
    let host = fonex_system::machine::host_name().unwrap_or_else(|| "worker".to_owned());
    let name = options.name.clone().unwrap_or_else(|| format!("{host}-{}", std::process::id()));
    let work_options = WorkOptions {
        class: options.class.clone().unwrap_or_else(own_class),
        concurrency: options.concurrency.map(|many| many as usize),
        until_done: options.until_done,
        name,
    };
    let interrupt = Interrupt::listen();
    output::note(&format!("{} waits for trials at {address}; Ctrl-C ends it.", work_options.name));
    let report = work_on(&bench, &address, &work_options, &interrupt, &Told)?;
    if options.format.format == Format::Json {
        output::print_json(&report)?;
    } else {
        let given_up = if report.given_up > 0 {
            format!(", and gave up {} that no worker came back from", plural(report.given_up, "group"))
        } else {
            String::new()
        };
        output::note(&format!(
            "Made {}, {} without an answer{given_up}.",
            plural(report.trials, "trial"),
            report.failed
        ));
    }
    Ok(if interrupt.flag().is_set() { Code::Interrupted } else { Code::Done })
}
