//! `fonex engine list`: the engines of the bench file.

use fonex_engines::{EngineConfig, Secrets};
use serde::Serialize;

use crate::bench::read_bench;
use crate::cli::{EngineListOptions, Format};
use crate::failure::{Code, Failure};
use crate::output::{self, Table};

#[derive(Serialize)]
struct Listed<'e> {
    name: &'e str,
    task: &'static str,
    transport: &'static str,
    leads_to: String,
    models: &'e [String],
    voices: Vec<&'e str>,
    variables: Vec<Variable>,
}

/// An environment variable an engine needs; its value is never shown.
#[derive(Serialize)]
struct Variable {
    name: String,
    set: bool,
}

pub fn list(options: &EngineListOptions) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &[])?;
    let secrets = Secrets::read(&bench.folder)?;
    let listed: Vec<Listed<'_>> = bench.engines.values().map(|engine| listed(engine, &secrets)).collect();
    if options.format.format == Format::Json {
        output::print_json(&listed)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new(["engine", "task", "transport", "models", "voices", "leads to", "keys"]);
    for engine in &listed {
        let keys =
            engine.variables.iter().map(|v| if v.set { v.name.clone() } else { format!("{} (not set)", v.name) });
        table.row([
            engine.name.to_owned(),
            engine.task.to_owned(),
            engine.transport.to_owned(),
            engine.models.join(", "),
            shortened(&engine.voices),
            engine.leads_to.clone(),
            keys.collect::<Vec<_>>().join(", "),
        ]);
    }
    match options.format.format {
        Format::Table => output::print(&table.text())?,
        form => output::print_table(&table, form)?,
    }
    Ok(Code::Done)
}

fn listed<'e>(engine: &'e EngineConfig, secrets: &Secrets) -> Listed<'e> {
    let variables = engine.transport.variables().into_iter();
    Listed {
        name: &engine.name,
        task: engine.task.as_str(),
        transport: engine.transport.as_str(),
        leads_to: engine.leads_to(),
        models: &engine.models,
        voices: engine.voices.0.iter().map(|voice| voice.id.as_str()).collect(),
        variables: variables.map(|name| Variable { set: secrets.value(&name).is_some(), name }).collect(),
    }
}

fn shortened(voices: &[&str]) -> String {
    const MOST: usize = 4;
    let first = voices.iter().take(MOST).copied().collect::<Vec<_>>().join(", ");
    match voices.len().checked_sub(MOST).filter(|more| *more > 0) {
        Some(more) => format!("{first} and {more} more"),
        None => first,
    }
}
