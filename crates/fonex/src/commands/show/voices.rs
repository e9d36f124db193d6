//! The scorecard of a run's voices: a line each.

use fonex_analysis::{MANY_TRIALS, Natural, RunView, VoiceCard, score_in_depth};
use fonex_core::accuracy::Score;
use fonex_core::measures::{Measure, find};

use fonex_store::{Store, StoreError};

use crate::commands::terms::{PRONOUNCED, terms_table};
use crate::output::{Cell, Table};

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

/// A row for each voice, and one for natural recordings where a recogniser heard some.
pub fn scorecard(view: &RunView, natural: &[Natural]) -> Table {
    let cards = VoiceCard::of(view);
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
    let columns: Vec<(String, u8)> = std::iter::once(named("voice"))
        .chain(heard)
        .chain(find(SOONEST).map(|measure| named(measure.name)))
        .chain([named("sounds"), named("front")])
        .chain(own)
        .collect();
    let mut table = Table::new(columns.iter().map(|(name, rank)| (name.as_str(), *rank))).titled("Scorecard");
    for card in &cards {
        let heard = listeners.iter().map(|listener| {
            let by = card.heard_by.iter().find(|(name, _)| name == listener);
            by.map_or(Cell::Empty, |(_, variant)| super::tables::estimate_cell(variant, "wer"))
        });
        let own = measures.iter().map(|(measure, _)| super::tables::estimate_cell(card.voice, measure.id));
        let words = card.in_words().join(", ");
        let mut row = vec![Cell::text(card.voice.variant.name.as_str())];
        row.extend(heard);
        row.push(super::tables::estimate_cell(card.voice, SOONEST));
        row.push(if words.is_empty() { Cell::Empty } else { Cell::text(words) });
        row.push(Cell::text(if card.on_front { "yes" } else { "no" }));
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
        let rest = std::iter::repeat_n(Cell::Empty, columns.len() - 1 - listeners.len());
        table.row(std::iter::once(Cell::text("natural recordings")).chain(heard).chain(rest));
    }
    let runs: Vec<String> =
        natural.iter().map(|natural| format!("{} in run {}", natural.recogniser, natural.run)).collect();
    let mut note = "WER: what recognisers get wrong of what the voice speaks. Front: no other voice is surely better in one of WER, faults, first sound and cost, with no worse an interval in the others."
        .to_owned();
    if !runs.is_empty() {
        note += &format!(" Natural recordings: {}.", runs.join(", "));
    }
    table.without_empty_columns().noted(note)
}
