//! `fonex engine list`: the engines of the bench file.

use clap::Args;
use fonex_engines::{EngineConfig, Secrets};
use serde::Serialize;

use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table};
use fonex_run::read_bench;

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex engine list")]
pub struct EngineListOptions {
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Listed<'e> {
    name: &'e str,
    task: &'static str,
    transport: &'static str,
    leads_to: String,
    models: &'e [String],
    voices: Vec<&'e str>,
    variables: Vec<Variable>,
}

/// An environment variable an engine needs; its value is never shown.
#[derive(Serialize, schemars::JsonSchema)]
struct Variable {
    name: String,
    set: bool,
}

pub fn list(options: &EngineListOptions) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &[])?;
    let secrets = Secrets::read(&bench.folder)?;
    let listed: Vec<Listed<'_>> = bench.engines.values().map(|engine| listed(engine, &secrets)).collect();
    for problem in bench.broken.engines.values() {
        output::caution(&format!("an engine cannot be used: {problem}"));
    }
    if options.format.format == Format::Json {
        output::print_json(&listed)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new([
        ("engine", 0),
        ("task", 1),
        ("transport", 1),
        ("models", 3),
        ("voices", 3),
        ("leads to", 0),
        ("keys", 2),
    ]);
    for engine in &listed {
        let keys =
            engine.variables.iter().map(|v| if v.set { v.name.clone() } else { format!("{} (not set)", v.name) });
        table.row([
            Cell::text(engine.name),
            Cell::text(engine.task),
            Cell::text(engine.transport),
            Cell::text(engine.models.join(", ")),
            Cell::text(shortened(&engine.voices)),
            Cell::Address(engine.leads_to.clone()),
            Cell::text(keys.collect::<Vec<_>>().join(", ")),
        ]);
    }
    output::print_table(&table, options.format.format)?;
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
