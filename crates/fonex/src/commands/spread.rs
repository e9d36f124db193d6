//! The server between machines, as commands name it and show it.

use std::path::{Path, PathBuf};

use clap::Args;
use fonex_engines::Secrets;
use fonex_formats::{Place, Problem};
use fonex_run::{Seen, SpreadAccess, SpreadAddress, folder_of};

use crate::cli::Format;
use crate::failure::Failure;
use crate::output::{self, Cell, Table};

/// The variables of the server and of its password, in the environment or in `.env`.
const SERVER: &str = "FONEX_SPREAD";
const PASSWORD: &str = "FONEX_SPREAD_PASSWORD";

/// The server of a run that is spread, and how it lets one in.
#[derive(Debug, Default, Args)]
pub struct ServerArg {
    /// The server between machines whose workers make the trials (fonex work): nats://USER@HOST:PORT or tls://..., password in FONEX_SPREAD_PASSWORD
    #[arg(long, value_name = "SERVER")]
    pub spread: Option<String>,
    /// With --spread: certificates to trust instead of the public authorities
    #[arg(long, value_name = "FILE", requires = "spread")]
    pub spread_ca: Option<PathBuf>,
    /// With --spread: credentials of a user, as the server's tools write them
    #[arg(long, value_name = "FILE", requires = "spread")]
    pub spread_credentials: Option<PathBuf>,
    /// With --spread: a certificate of this machine, where the server asks for one
    #[arg(long, value_name = "FILE", requires_all = ["spread", "spread_key"])]
    pub spread_certificate: Option<PathBuf>,
    /// With --spread: the key of that certificate
    #[arg(long, value_name = "FILE", requires_all = ["spread", "spread_certificate"])]
    pub spread_key: Option<PathBuf>,
}

impl ServerArg {
    /// The address, where one is named; its password may stand beside the bench file.
    pub fn address(&self, bench: &Path) -> Result<Option<SpreadAddress>, Problem> {
        let access = SpreadAccess {
            authorities: self.spread_ca.clone(),
            credentials: self.spread_credentials.clone(),
            certificate: self.spread_certificate.clone().zip(self.spread_key.clone()),
            password: None,
        };
        self.spread.as_deref().map(|server| address(Some(server), access, bench)).transpose()
    }

    /// The options again, for a command to repeat. An address with a user is not repeated on a screen: it may be a token.
    pub fn again(&self) -> String {
        let Some(server) = &self.spread else { return String::new() };
        let mut options = format!(" --spread {}", if server.contains('@') { "SERVER" } else { server });
        for (option, file) in [
            ("ca", &self.spread_ca),
            ("credentials", &self.spread_credentials),
            ("certificate", &self.spread_certificate),
            ("key", &self.spread_key),
        ] {
            if let Some(file) = file {
                options += &format!(" --spread-{option} '{}'", file.display());
            }
        }
        options
    }
}

/// The address that is typed, or that the environment or the `.env` beside the bench file names.
pub fn address(typed: Option<&str>, access: SpreadAccess, bench: &Path) -> Result<SpreadAddress, Problem> {
    let secrets = Secrets::read(folder_of(bench))?;
    let named = typed.map(str::to_owned).or_else(|| secrets.value(SERVER)).ok_or_else(|| {
        Problem::new("no server is named", Place::default())
            .remedy(format!("name it, such as nats://localhost, or set {SERVER}"))
    })?;
    SpreadAddress::parse(&named, SpreadAccess { password: secrets.value(PASSWORD), ..access }).map_err(|why| {
        Problem::new(format!("this is no address of a server: {why}"), Place::default())
            .expected("nats://HOST:PORT or tls://HOST:PORT")
    })
}

/// The jobs, a row each.
pub fn jobs_table(seen: &Seen) -> Table {
    let mut table = Table::new([
        ("plan", 0),
        ("label", 0),
        ("started", 1),
        ("groups", 0),
        ("left", 0),
        ("to store", 0),
        ("asked for", 0),
        ("class", 2),
    ]);
    for line in &seen.jobs {
        table.row([
            Cell::text(&*line.job.plan),
            Cell::text(line.job.label.clone().unwrap_or_default()),
            Cell::text(&*line.job.started_at),
            Cell::Count(line.job.groups),
            Cell::Count(line.left),
            Cell::Count(line.to_store),
            Cell::text(if line.asked { "yes" } else { "no" }),
            Cell::text(line.job.class.clone().unwrap_or_default()),
        ]);
    }
    table.titled("Jobs")
}

/// The workers, a row each.
pub fn workers_table(seen: &Seen) -> Table {
    let mut table = Table::new([
        ("worker", 0),
        ("at", 0),
        ("trials", 0),
        ("failed", 0),
        ("a second", 0),
        ("since", 1),
        ("class", 2),
    ]);
    for line in &seen.workers {
        let state = &line.state;
        table.row([
            Cell::text(&*state.name),
            Cell::text(state.plan.clone().unwrap_or_else(|| "waiting".to_owned())),
            Cell::Count(state.trials),
            Cell::Alarm(state.failed),
            Cell::number(line.per_second, 1),
            Cell::text(&*state.since),
            Cell::text(&*state.class),
        ]);
    }
    let table = table.titled("Workers");
    if seen.workers.is_empty() { table } else { table.without_empty_columns() }
}

/// Prints what there is to be seen.
pub fn print_seen(seen: &Seen, format: Format) -> Result<(), Failure> {
    if format == Format::Json {
        output::print_json(seen)?;
        return Ok(());
    }
    output::print_table(&jobs_table(seen), format)?;
    output::print_table(&workers_table(seen), format)?;
    Ok(())
}
