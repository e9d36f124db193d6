//! The scorecard of a run's voices: a line each.

use std::collections::BTreeMap;

use fonex_analysis::{MANY_TRIALS, Natural, RunView, VoiceCard, natural, score_in_depth};
use fonex_core::accuracy::Score;
use fonex_core::measures::{Better, Measure, find};

use fonex_formats::{Place, Problem};
use fonex_store::{Store, StoreError};
use serde::Serialize;

use super::ShowOptions;
use crate::cli::Format;
use crate::commands::terms::{PRONOUNCED, terms_table};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table};

/// The delay that a listener notices.
const SOONEST: &str = "first_audible_p50";
/// Further measures of the voices themselves, with how soon each gives way where there is little room.
const COLUMNS: [(&str, u8); 8] = [
    ("cost_per_audio_minute", 1),
    ("faulty_clips", 2),
    ("clipped_clips", 2),
    ("pace", 3),
    ("syllable_rate", 4),
    ("pitch_hz", 3),
    ("pitch_range_st", 3),
    ("loudness_lufs", 4),
];

/// Must-hear terms of the texts by voice and recogniser: which names and terms are said so that they are understood. Empty without terms.
pub(super) fn pronunciation(store: &Store, view: &RunView) -> Result<Table, StoreError> {
    let mut heard: Vec<(String, Score)> = Vec::new();
    for variant in view.variants.iter().filter(|variant| variant.variant.hears.is_some()) {
        // Texts are aligned again for it: of very many that takes long, and the report has it.
        let has_terms = variant.measures.get("term_recall").is_some();
        if has_terms
            && variant.extras.trials <= MANY_TRIALS as u64
            && let Some(score) = score_in_depth(store, view, variant)?
        {
            heard.push((variant.variant.name.clone(), score));
        }
    }
    let heard: Vec<(String, &Score)> = heard.iter().map(|(name, score)| (name.clone(), score)).collect();
    Ok(terms_table(PRONOUNCED, &heard))
}

/// A measure with its weight in a rank.
pub type Weight = (&'static Measure, f64);

/// Reads `wer=2`.
pub fn weight(typed: &str) -> Result<Weight, String> {
    let (id, weight) = typed.split_once('=').ok_or("expected MEASURE=WEIGHT")?;
    let measure = find(id).ok_or_else(|| format!("there is no measure \"{id}\"; fonex measures lists them"))?;
    if measure.better == Better::Neither {
        return Err(format!("\"{id}\" is neither better high nor low"));
    }
    match weight.parse::<f64>() {
        Ok(weight) if weight > 0.0 && weight.is_finite() => Ok((measure, weight)),
        _ => Err("expected a weight above 0".to_owned()),
    }
}

/// A voice with its mark, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Ranked<'c> {
    voice: &'c str,
    by_weight: Option<f64>,
    on_front: bool,
}

/// The scorecard alone, ranked.
pub(super) fn show_rank(store: &mut Store, view: &RunView, options: &ShowOptions) -> Result<Code, Failure> {
    let cards = VoiceCard::of(view);
    if cards.is_empty() {
        let problem = Problem::new(format!("no voice speaks in run {}", view.name()), Place::default());
        return Err(problem.expected("a run of a plan whose engines speak").into());
    }
    for (measure, _) in &options.rank {
        if cards.iter().all(|card| card.figure(measure).is_none()) {
            let what = format!("no voice of run {} has {}", view.name(), measure.name);
            let problem = Problem::new(what, Place::default().field("--rank"));
            return Err(problem
                .expected("a measure of voices, or of what recognisers of heard_by make of them")
                .into());
        }
    }
    if options.format.format == Format::Json {
        let marks = VoiceCard::weighted(&cards, &options.rank);
        let mut ranked: Vec<Ranked<'_>> = cards
            .iter()
            .zip(marks)
            .map(|(card, by_weight)| Ranked { voice: &card.voice.variant.name, by_weight, on_front: card.on_front })
            .collect();
        ranked.sort_by(|a, b| b.by_weight.unwrap_or(-1.0).total_cmp(&a.by_weight.unwrap_or(-1.0)));
        output::print_json(&ranked)?;
        return Ok(Code::Done);
    }
    let recordings = super::recordings(store, options)?;
    let natural = natural(store, view, recordings.as_ref())?;
    output::print_table(&scorecard(view, &natural, &options.rank, &BTreeMap::new()), options.format.format)?;
    Ok(Code::Done)
}

/// A row for each voice, and one for natural recordings where a recogniser heard some.
pub fn scorecard(view: &RunView, natural: &[Natural], weights: &[Weight], apart_db: &BTreeMap<String, f64>) -> Table {
    let mut cards = VoiceCard::of(view);
    let marks = VoiceCard::weighted(&cards, weights);
    let mut order: Vec<usize> = (0..cards.len()).collect();
    if !weights.is_empty() {
        order.sort_by(|a, b| marks[*b].unwrap_or(-1.0).total_cmp(&marks[*a].unwrap_or(-1.0)));
    }
    let marks: Vec<Option<f64>> = order.iter().map(|at| marks[*at]).collect();
    cards = order.iter().map(|at| cards[*at].clone()).collect();
    let mut listeners: Vec<&str> = Vec::new();
    for (name, _) in cards.iter().flat_map(|card| &card.heard_by) {
        if !listeners.contains(&name.as_str()) {
            listeners.push(name);
        }
    }
    let heard = listeners.iter().map(|name| (format!("WER by {name}"), 0));
    let measures: Vec<(&Measure, u8)> = COLUMNS.iter().filter_map(|(id, rank)| Some((find(id)?, *rank))).collect();
    let own = measures.iter().map(|(measure, rank)| (measure.name.to_owned(), *rank));
    let named = |name: &str| (name.to_owned(), 0);
    let rank = if weights.is_empty() { None } else { Some(named("by weight")) };
    let columns: Vec<(String, u8)> = std::iter::once(named("voice"))
        .chain(rank)
        .chain(heard)
        .chain(find(SOONEST).map(|measure| named(measure.name)))
        .chain([named("sounds"), named("front"), named("dB from recordings")])
        .chain(own)
        .collect();
    let mut table = Table::new(columns.iter().map(|(name, rank)| (name.as_str(), *rank))).titled("Scorecard");
    for (card, mark) in cards.iter().zip(marks) {
        let heard = listeners.iter().map(|listener| {
            let by = card.heard_by.iter().find(|(name, _)| name == listener);
            by.map_or(Cell::Empty, |(_, variant)| super::tables::estimate_cell(variant, "wer"))
        });
        let own = measures.iter().map(|(measure, _)| super::tables::estimate_cell(card.voice, measure.id));
        let words = card.in_words().join(", ");
        let mut row = vec![Cell::text(card.voice.variant.name.as_str())];
        if !weights.is_empty() {
            row.push(Cell::number(mark, 2));
        }
        row.extend(heard);
        row.push(super::tables::estimate_cell(card.voice, SOONEST));
        row.push(if words.is_empty() { Cell::Empty } else { Cell::text(words) });
        row.push(Cell::text(if card.on_front { "yes" } else { "no" }));
        row.push(Cell::number(apart_db.get(&card.voice.variant.name).copied(), 1));
        row.extend(own);
        table.row(row);
    }
    if !natural.is_empty() {
        let heard = listeners.iter().map(|listener| {
            let own = natural.iter().find(|natural| natural.recogniser == *listener);
            own.map_or(Cell::Empty, |own| {
                Cell::Estimate(
                    find("wer").map_or(fonex_core::measures::Unit::Share, |wer| wer.unit),
                    own.wer.value,
                    own.wer.interval,
                )
            })
        });
        let before = if weights.is_empty() { None } else { Some(Cell::Empty) };
        let rest = columns.len() - 1 - listeners.len() - usize::from(!weights.is_empty());
        let rest = std::iter::repeat_n(Cell::Empty, rest);
        table.row(std::iter::once(Cell::text("natural recordings")).chain(before).chain(heard).chain(rest));
    }
    let runs: Vec<String> =
        natural.iter().map(|natural| format!("{} in run {}", natural.recogniser, natural.run)).collect();
    let mut note = "WER: what recognisers get wrong of what the voice speaks. Front: no other voice is surely better in one of WER, faults, clipping, first sound and cost without being worse in another by what matters."
        .to_owned();
    if !apart_db.is_empty() {
        note +=
            " dB from recordings: mel-cepstral distance to the recordings of the same texts; 0 is the same sound.";
    }
    if !weights.is_empty() {
        let named: Vec<String> =
            weights.iter().map(|(measure, weight)| format!("{} {weight}", measure.name)).collect();
        note += &format!(
            " By weight: each figure scaled from 0, the worst voice here, to 1, the best; weights {}. Intervals do not count in it.",
            named.join(", ")
        );
    }
    if !runs.is_empty() {
        note += &format!(" Natural recordings: {}.", runs.join(", "));
    }
    table.without_empty_columns().noted(note)
}
