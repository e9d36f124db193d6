//! Clips that changed sides between two variants, with what both heard.

use fonex_analysis::{ClipResult, Flip, Flips, Side, flips};
use fonex_core::accuracy::WordStep;
use fonex_formats::{Place, Problem};
use fonex_store::Store;
use serde::Serialize;

use crate::cli::Format;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural, thread_key, thread_lines};

/// The clips of one pair.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Changed {
    first: String,
    second: String,
    /// Clips that both answered.
    compared: usize,
    lost: usize,
    won: usize,
    clips: Vec<ChangedClip>,
}

#[derive(Serialize, schemars::JsonSchema)]
struct ChangedClip {
    #[serde(flatten)]
    flip: Flip,
    verdict: &'static str,
    /// Word by word, of the most harmful ones.
    #[serde(skip_serializing_if = "Option::is_none")]
    words: Option<[Vec<WordStep>; 2]>,
}

pub(super) fn print_flips(
    store: &Store,
    pairs: &[(Side<'_>, Side<'_>)],
    most: usize,
    form: Format,
) -> Result<Code, Failure> {
    let hears = |side: &Side<'_>| side.variant.variant.task == fonex_core::Task::Hear;
    let mut changed = Vec::new();
    for (first, second) in pairs.iter().filter(|(first, _)| hears(first)) {
        let Flips { compared, clips } = flips(store, *first, *second, most)?;
        let lost = clips.iter().filter(|(flip, _)| flip.sides.is_lost()).count();
        let won = clips.len() - lost;
        let clips = clips.into_iter().map(|(flip, readings)| ChangedClip {
            verdict: if flip.sides.is_lost() { "lost" } else { "won" },
            words: readings.map(|readings| readings.map(|ClipResult { steps, .. }| steps)),
            flip,
        });
        changed.push(Changed {
            first: first.name(),
            second: second.name(),
            compared,
            lost,
            won,
            clips: clips.collect(),
        });
    }
    if changed.is_empty() {
        let problem = Problem::new("none of these variants is a recogniser", Place::default());
        return Err(problem.expected("variants that hear, or that hear what voices speak").into());
    }
    match form {
        Format::Json => output::print_json(&changed)?,
        Format::Table => output::print_lines(&page(&changed))?,
        form => output::print_table(&table(&changed), form)?,
    }
    Ok(Code::Done)
}

fn page(changed: &[Changed]) -> String {
    let mut text = String::new();
    for Changed { first, second, compared, lost, won, clips } in changed {
        let lost_clips = plural(*lost as u64, "clip");
        let of = plural(*compared as u64, "clip");
        text += &format!("{second} against {first}: {lost_clips} lost, {won} won, of {of} that both answered\n");
        if clips.is_empty() {
            let alike = if *compared == 0 { "No clip was answered by both." } else { "Both hear every clip alike." };
            text += &format!("{alike}\n");
        }
        let shown = clips.iter().filter(|clip| clip.words.is_some());
        for (at, clip) in shown.enumerate() {
            if at == 0 {
                text += &format!("{}\n", thread_key());
            }
            text += &format!("\n{} {}: {}\n", clip.verdict, clip.flip.clip, harm(&clip.flip));
            for (name, steps) in [first, second].into_iter().zip(clip.words.iter().flatten()) {
                text += &format!("{name}\n");
                for line in thread_lines(steps, output::width(), output::colour()) {
                    text += &format!("{line}\n");
                }
            }
        }
        let more = clips.iter().filter(|clip| clip.words.is_none()).count();
        if more > 0 {
            text += &format!("\n{} changed as well; --flips N shows more\n", plural(more as u64, "clip"));
        }
        text.push('\n');
    }
    text
}

/// What changed: terms first, then words.
fn harm(flip: &Flip) -> String {
    let mut parts = Vec::new();
    let number = |value: f64| format!("{}", (value * 100.0).round() / 100.0);
    if let (Some(one), Some(other)) = (flip.sides.first.terms_missed, flip.sides.second.terms_missed)
        && one != other
    {
        parts.push(format!("terms missed {} then {}", number(one), number(other)));
    }
    if let (Some(one), Some(other)) = (flip.sides.first.weight, flip.sides.second.weight) {
        parts.push(format!("weight of wrong words {} then {}", number(one), number(other)));
    }
    parts.push(format!("wrong words {} then {}", number(flip.sides.first.errors), number(flip.sides.second.errors)));
    parts.join(", ")
}

fn table(changed: &[Changed]) -> Table {
    let mut table = Table::new([
        ("first", 0),
        ("second", 0),
        ("verdict", 0),
        ("clip", 0),
        ("terms missed by first", 0),
        ("terms missed by second", 0),
        ("errors of first", 0),
        ("errors of second", 0),
        ("label", 0),
    ]);
    for pair in changed {
        for ChangedClip { flip, verdict, .. } in &pair.clips {
            table.row([
                Cell::text(pair.first.as_str()),
                Cell::text(pair.second.as_str()),
                Cell::text(*verdict),
                Cell::text(flip.clip.as_str()),
                Cell::number(flip.sides.first.terms_missed, 2),
                Cell::number(flip.sides.second.terms_missed, 2),
                Cell::Number(flip.sides.first.errors, 2),
                Cell::Number(flip.sides.second.errors, 2),
                Cell::text(flip.label.as_str()),
            ]);
        }
    }
    table
}
