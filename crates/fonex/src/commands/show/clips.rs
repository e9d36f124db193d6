//! Single clips of a run, word by word.

use fonex_analysis::{ClipResult, RunView, clip_result, worst};
use fonex_run::unknown;
use fonex_store::Store;
use serde::Serialize;

use crate::cli::Format;
use crate::commands::errors_of_words;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, thread_key, thread_lines};

/// Clips among which one with a name much like a mistyped one is looked for.
const MOST_LIKE_IT: u32 = 10_000;

pub(super) fn worst_clips(store: &Store, view: &RunView, most: usize) -> Result<String, Failure> {
    let mut text = String::new();
    for variant in view.variants.iter().filter(|_| most > 0) {
        let worst = worst(store, view, variant, most)?;
        if worst.is_empty() {
            continue;
        }
        text += &format!("\nWorst clips of {}\n{}\n", variant.variant.name, thread_key());
        worst.iter().for_each(|clip| text += &clip_lines(&clip.id, clip));
    }
    Ok(text)
}

fn clip_lines(name: &str, clip: &ClipResult) -> String {
    let mut text = format!("\n{name}: {}\n", errors_of_words(clip.words.errors(), clip.words.reference()));
    for line in thread_lines(&clip.steps, output::width(), output::colour()) {
        text += &format!("{line}\n");
    }
    text
}

/// One clip under each variant, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct ClipView<'v> {
    variant: &'v str,
    #[serde(flatten)]
    result: ClipResult,
}

pub(super) fn show_clip(store: &Store, view: &RunView, id: &str, format: Format) -> Result<Code, Failure> {
    let corpus = &view.run.corpus_checksum;
    let Some(label) = store.clip_named(corpus, id)? else {
        let what = format!("run {} has no clip \"{id}\"", view.name());
        let mut ids: Vec<String> = Vec::new();
        store.labels_at(corpus, 0..MOST_LIKE_IT, |_, id, _| ids.push(id.to_owned()))?;
        return Err(unknown(what, id, &ids, fonex_formats::Place::default()).into());
    };
    let mut results = Vec::new();
    for variant in &view.variants {
        results.push((variant.variant.name.as_str(), clip_result(store, view, variant, &label)?));
    }
    if format == Format::Json {
        let views = results.into_iter().filter_map(|(variant, result)| Some(ClipView { variant, result: result? }));
        output::print_json(&views.collect::<Vec<_>>())?;
        return Ok(Code::Done);
    }
    if format != Format::Table {
        let mut table = Table::new([("variant", 0), ("errors", 0), ("words", 0)]);
        for (variant, result) in &results {
            let counts =
                |count: fn(&ClipResult) -> u64| result.as_ref().map_or(Cell::Empty, |r| Cell::Count(count(r)));
            table.row([Cell::text(*variant), counts(|r| r.words.errors()), counts(|r| r.words.reference())]);
        }
        output::print_table(&table, format)?;
        return Ok(Code::Done);
    }
    let mut text = format!("{id}: {}\n{}\n", label.text, thread_key());
    for (variant, result) in results {
        text += &match result {
            Some(clip) => clip_lines(variant, &clip),
            None => format!("\n{variant}: no answer to compare\n"),
        };
    }
    output::print_lines(&text)?;
    Ok(Code::Done)
}
