//! Clips that changed sides between two variants: right before and wrong now, or the other way round, the most harmful first.

use fonex_core::Clip;
use fonex_core::measures::find;
use fonex_core::text::Label;
use fonex_store::{Store, StoreError};
use serde::Serialize;

use crate::compare::{Paired, Side};
use crate::depth::{ClipResult, clip_result};

/// A clip of which two variants make more, or less.
#[derive(Debug, Clone, Serialize)]
pub struct Flip {
    /// The clip.
    pub clip: String,
    /// Its label, in its first reading.
    pub label: String,
    /// What the first variant made of it.
    pub first: FlipSide,
    /// What the second made of it.
    pub second: FlipSide,
}

/// What one variant made of a clip, all repeats taken together.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct FlipSide {
    /// Must-hear terms missed, per repeat; left out where the clip lists none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub terms_missed: Option<f64>,
    /// Weight of the wrong words, per repeat; left out where words have no weights.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub weight: Option<f64>,
    /// Wrong words, per repeat.
    pub errors: f64,
}

impl Flip {
    /// By how much the second is worse: by terms missed, then by weight, then by words.
    #[must_use]
    pub fn harm(&self) -> [f64; 3] {
        let more = |of: fn(&FlipSide) -> f64| of(&self.second) - of(&self.first);
        [
            more(|side| side.terms_missed.unwrap_or_default()),
            more(|side| side.weight.unwrap_or_default()),
            more(|side| side.errors),
        ]
    }

    /// Whether the second is worse.
    #[must_use]
    pub fn is_lost(&self) -> bool {
        self.harm().into_iter().find(|harm| *harm != 0.0).is_some_and(|harm| harm > 0.0)
    }
}

/// What changed between two variants.
#[derive(Debug, Clone)]
pub struct Flips {
    /// Clips that both answered.
    pub compared: usize,
    /// The clips of which the second makes something else than the first: those it has lost, the most harmful first, and behind
    /// them those it has won, the most useful first. With the readings of both, word by word, of the first of each.
    pub clips: Vec<(Flip, Option<[ClipResult; 2]>)>,
}

/// The clips that changed sides, with the readings of the first `most` that were lost, and won.
///
/// # Errors
/// When the store cannot be read.
pub fn flips(store: &Store, first: Side<'_>, second: Side<'_>, most: usize) -> Result<Flips, StoreError> {
    let paired = Paired::new(store, first, second, None)?;
    let mut found: Vec<([u32; 2], [FlipSide; 2])> = Vec::new();
    let mut compared = 0;
    let facts = ["wer", "term_recall", "weighted_wer"].map(|id| find(id).map(|measure| measure.fact));
    let mut columns = Vec::new();
    for side in [first, second] {
        let mut own = Vec::new();
        for fact in facts.into_iter().flatten() {
            own.push(side.run.fact(store, side.variant, fact)?.0);
        }
        columns.push(own);
    }
    for places in &paired.shared {
        let side = |side: usize| -> Option<FlipSide> {
            let trials = paired.clips[side].trials_of(places[side]);
            let mean = |fact: usize, of: fn(&[f64]) -> f64| {
                let rows = trials.iter().map(|trial| columns[side][fact].rows(*trial as usize));
                let rows: Vec<&[f64]> = rows.filter(|rows| !rows.is_empty()).collect();
                (!rows.is_empty()).then(|| rows.iter().map(|row| of(row)).sum::<f64>() / rows.len() as f64)
            };
            Some(FlipSide {
                errors: mean(0, |row| row[1] + row[2] + row[3])?,
                terms_missed: mean(1, |row| row[1]),
                weight: mean(2, |row| row[0]),
            })
        };
        if let (Some(one), Some(other)) = (side(0), side(1)) {
            compared += 1;
            if one != other {
                found.push((*places, [one, other]));
            }
        }
    }
    let mut flips = Vec::new();
    for (places, [one, other]) in found {
        let Some(clip) = store.clip_at(&first.run.run.corpus_checksum, places[0])? else { continue };
        let label = Label::parse(&clip.text).map_or_else(|_| clip.text.clone(), |label| label.first_reading());
        flips.push((clip.clone(), Flip { clip: clip.id, label, first: one, second: other }));
    }
    let by_harm = |a: &Flip, b: &Flip| {
        let compared = a.harm().into_iter().zip(b.harm()).map(|(a, b)| a.abs().total_cmp(&b.abs()).reverse());
        compared.fold(std::cmp::Ordering::Equal, std::cmp::Ordering::then)
    };
    flips.sort_by(|(_, a), (_, b)| b.is_lost().cmp(&a.is_lost()).then(by_harm(a, b)).then(a.clip.cmp(&b.clip)));
    let (mut lost, mut won) = (0, 0);
    let clips = flips.into_iter().map(|(clip, flip)| {
        let count = if flip.is_lost() { &mut lost } else { &mut won };
        *count += 1;
        let readings = if *count <= most { readings(store, first, second, &clip)? } else { None };
        Ok((flip, readings))
    });
    Ok(Flips { compared, clips: clips.collect::<Result<_, StoreError>>()? })
}

fn readings(
    store: &Store,
    first: Side<'_>,
    second: Side<'_>,
    clip: &Clip,
) -> Result<Option<[ClipResult; 2]>, StoreError> {
    let one = clip_result(store, first.run, first.variant, clip)?;
    let other = clip_result(store, second.run, second.variant, clip)?;
    Ok(one.zip(other).map(|(one, other)| [one, other]))
}
