//! `fonex engine voices`: the voices of an engine, from the bench file or from the engine itself.

use std::collections::HashMap;

use fonex_engines::{Task, Voice};
use fonex_formats::{Place, Problem};

use crate::bench::{read_bench, voice_condition};
use crate::cli::{EngineVoicesOptions, Format};
use crate::commands::with_engine;
use crate::failure::{Code, Failure};
use crate::output::{self, Table, plural};

pub fn voices(options: &EngineVoicesOptions) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let config = bench.engine(&options.engine)?;
    if config.task != Task::Speak {
        let what = format!("the engine \"{}\" does not speak", options.engine);
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
            output::print(&format!("{count} from {source}\n{}", table(&chosen).text()))?;
        }
        form => output::print_table(&table(&chosen), form)?,
    }
    Ok(Code::Done)
}

fn table(voices: &[Voice]) -> Table {
    let mut table = Table::new(["voice", "name", "languages", "gender", "styles", "kind", "regions", ">price"]);
    for voice in voices {
        let text = |value: &Option<String>| value.clone().unwrap_or_default();
        table.row([
            voice.id.clone(),
            text(&voice.name),
            voice.languages.join(", "),
            text(&voice.gender),
            voice.styles.join(", "),
            text(&voice.kind),
            voice.regions.join(", "),
            voice.price.map_or_else(String::new, |price| format!("{price:.6}")),
        ]);
    }
    table
}
