//! `fonex standin serve`: the stand-ins of a bench file as a service on loopback.

use clap::{Args, Subcommand};
use std::collections::BTreeMap;

use fonex_engines::{Secrets, Transport};
use fonex_formats::audio::read_side;
use fonex_formats::{Place, Problem, audio_path};
use fonex_standin::service::{Fault, Service, ServiceConfig};

use super::panel::StandinListen;
use crate::cli::BenchArg;
use crate::failure::{Code, Failure};
use crate::output;
use fonex_run::{Bench, read_bench};

#[derive(Debug, Subcommand)]
pub enum StandinCommand {
    /// Serve the stand-in engines of the bench file over HTTP and WebSocket on loopback
    Serve(StandinServe),
    /// Rate a panel as simulated listeners with given opinions would
    Listen(StandinListen),
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex standin serve --port 8790 --key-from FONEX_DEMO_KEY"
)]
pub struct StandinServe {
    /// Port on loopback; 0 takes a free one
    #[arg(long, default_value_t = 8790)]
    pub port: u16,
    /// Ask for the key in this environment variable, in an Authorization: Bearer header
    #[arg(long, value_name = "VARIABLE")]
    pub key_from: Option<String>,
    /// Requests after which the quota is used up
    #[arg(long, value_name = "N")]
    pub quota: Option<u64>,
    /// Share of requests that meet a fault, chosen by the seed
    #[arg(long, default_value_t = 0.0, value_name = "SHARE")]
    pub fault_share: f64,
    /// Milliseconds before each connection is served
    #[arg(long, default_value_t = 0.0, value_name = "MS")]
    pub slow_accept_ms: f64,
    /// List the faults that fault=NAME in an address asks for, and end
    #[arg(long)]
    pub faults: bool,
    /// Change a value of the bench file
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
}

pub fn serve(options: &StandinServe) -> Result<Code, Failure> {
    if options.faults {
        let names: Vec<&str> = Fault::ALL.into_iter().map(Fault::as_str).collect();
        output::print(&format!("{}\n", names.join("\n")))?;
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let config = ServiceConfig {
        keys: options.key_from.iter().map(|name| key(&bench, name)).collect::<Result<_, _>>()?,
        quota: options.quota,
        fault_share: options.fault_share,
        slow_accept: fonex_core::latency::span(options.slow_accept_ms.max(0.0) / 1e3),
        ..service_config(&bench)?
    };
    let known = config.clips.len();
    let service = Service::start(config, options.port).map_err(|error| {
        Problem::new(format!("port {} cannot be served: {error}", options.port), Place::default())
            .remedy("--port 0 takes a free one")
    })?;
    output::print(&format!("http://{}\n", service.address()))?;
    output::note(&format!(
        "Serving the stand-ins of {} with {known} labelled clips until Ctrl-C.",
        bench.path.display()
    ));
    service.wait();
    Ok(Code::Done)
}

/// A key the service asks for: the value of a variable, never an argument that others could read.
pub(super) fn key(bench: &Bench, variable: &str) -> Result<String, Problem> {
    let secrets = Secrets::read(&bench.folder)?;
    secrets.value(variable).ok_or_else(|| secrets.missing(variable, Place::default().field("--key-from")))
}

/// The stand-ins and labelled clips of a bench file, without key, quota or faults.
pub(super) fn service_config(bench: &Bench) -> Result<ServiceConfig, Failure> {
    let engines = engines(bench);
    if engines.is_empty() {
        let problem = Problem::new("this bench file has no stand-in engine", Place::file(&bench.path));
        return Err(problem
            .remedy("name a bench file whose engines have transport = \"standin\" with --bench")
            .into());
    }
    let clips = clips(bench)?;
    Ok(ServiceConfig { engines, clips, seed: bench.seed, ..ServiceConfig::default() })
}

fn engines(bench: &Bench) -> BTreeMap<String, fonex_standin::Behaviours> {
    let standins = bench.engines.iter().filter_map(|(name, engine)| match &engine.transport {
        Transport::StandIn(behaviours) => Some((name.clone(), behaviours.clone())),
        _ => None,
    });
    standins.collect()
}

/// The labelled clips that have audio; what cannot be read is not known to the service.
fn clips(bench: &Bench) -> Result<Vec<(fonex_core::Clip, fonex_core::audio::Audio)>, Failure> {
    if bench.corpus.is_none() {
        return Ok(Vec::new());
    }
    let corpus = bench.read_corpus(None)?;
    let read = corpus.clips.iter().filter_map(|clip| {
        let path = audio_path(&corpus.folder, clip)?;
        match read_side(&path, clip.side) {
            Ok(decoded) => Some((clip.clone(), decoded.audio)),
            Err(error) => {
                output::caution(&format!("clip {} will not be known: {error}", clip.id));
                None
            }
        }
    });
    Ok(read.collect())
}
