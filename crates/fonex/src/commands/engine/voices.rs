//! `fonex engine voices`: the voices of an engine, from the bench file or from the engine itself.

use clap::Args;
use std::collections::HashMap;

use fonex_engines::{Task, Voice};
use fonex_formats::{Place, Problem};

use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};
use fonex_run::with_engine;
use fonex_run::{read_bench, voice_condition};

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex engine voices osier --where 'gender = female'")]
pub struct EngineVoicesOptions {
    /// Engine of the bench file
    pub engine: String,
    /// Only voices that meet this condition on id, name, lang, gender, style, kind, region or price
    #[arg(long = "where", value_name = "CONDITION")]
    pub only: Option<String>,
    /// Override a bench file value for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn voices(options: &EngineVoicesOptions) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let config = bench.engine(&options.engine)?;
    if config.task != Task::Speak {
        let what = format!("the engine \"{}\" is not a synthesiser", options.engine);
        return Err(Problem::new(what, Place::default()).into());
    }
    let condition =
        options.only.as_deref().map(|text| voice_condition(text, Place::default().field("--where"))).transpose()?;
    let own = with_engine(config, &bench, HashMap::new(), |engine| engine.voices_listed(&config.settings))?;
    let own = own.map_err(|why| {
        Problem::new(format!("the voices of \"{}\" cannot be listed: {why}", options.engine), Place::default())
            .remedy(format!("try: fonex engine probe {}", options.engine))
    })?;
    let source = if own.is_some() { "the engine's own list" } else { "the bench file" };
    let all = own.unwrap_or_else(|| config.voices.0.clone());
    let total = all.len();
    let chosen: Vec<Voice> =
        all.into_iter().filter(|voice| condition.as_ref().is_none_or(|condition| condition.holds(voice))).collect();
    match options.format.format {
        Format::Json => output::print_json(&chosen)?,
        Format::Table => {
            let count = plural(total as u64, "voice");
            let count = if chosen.len() == total { count } else { format!("{} of {count}", chosen.len()) };
            output::print_lines(&format!("{count} from {source}\n{}", output::text(&table(&chosen))))?;
        }
        form => output::print_table(&table(&chosen), form)?,
    }
    Ok(Code::Done)
}

fn table(voices: &[Voice]) -> Table {
    let mut table = Table::new([
        ("voice", 0),
        ("name", 2),
        ("languages", 0),
        ("gender", 1),
        ("styles", 3),
        ("kind", 3),
        ("regions", 4),
        ("price", 1),
    ]);
    for voice in voices {
        let text = |value: &Option<String>| value.as_ref().map_or(Cell::Empty, |value| Cell::text(value.as_str()));
        table.row([
            Cell::text(voice.id.as_str()),
            text(&voice.name),
            Cell::text(voice.languages.join(", ")),
            text(&voice.gender),
            Cell::text(voice.styles.join(", ")),
            text(&voice.kind),
            Cell::text(voice.regions.join(", ")),
            Cell::number(voice.price, 6),
        ]);
    }
    table
}
