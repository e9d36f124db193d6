//! `fonex standin serve`: the stand-ins of a bench file as a service on loopback.

use std::collections::BTreeMap;
use std::time::Duration;

use fonex_engines::{Secrets, Transport};
use fonex_formats::audio::read_side;
use fonex_formats::{Place, Problem, audio_path};
use fonex_standin::service::{Fault, Service, ServiceConfig};

use crate::bench::{Bench, read_bench};
use crate::cli::StandinServe;
use crate::failure::{Code, Failure};
use crate::output;

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
        slow_accept: Duration::from_secs_f64(options.slow_accept_ms.max(0.0) / 1e3),
        ..service_config(&bench)?
    };
    let known = config.clips.len();
    let service = Service::start(config, options.port).map_err(|error| {
        Problem::new(format!("port {} cannot be served: {error}", options.port), Place::default())
            .remedy("--port 0 takes a free one")
    })?;
    output::print(&format!("http://{}\n", service.address()))?;
    eprintln!("Serving the stand-ins of {} with {known} labelled clips until Ctrl-C.", bench.path.display());
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
    let (engines, clips) = (engines(bench), clips(bench)?);
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
