//! Clips that changed sides between two variants: right before and wrong now, or the other way round, the most harmful first.

use fonex_core::Clip;
use fonex_core::measures::find;
use fonex_core::text::Label;
use fonex_store::{Store, StoreError};
use serde::Serialize;

use crate::compare::{Paired, Side};
use crate::depth::{ClipResult, clip_result};

/// A clip of which two variants make more, or less.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Flip {
    /// The clip.
    pub clip: String,
    /// Its label, in its first reading.
    pub label: String,
    /// What was made of it.
    #[serde(flatten)]
    pub sides: FlipSides,
}

/// What two variants made of a clip.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, schemars::JsonSchema)]
pub struct FlipSides {
    /// The first.
    pub first: FlipSide,
    /// The second.
    pub second: FlipSide,
}

/// What one variant made of a clip, all repeats taken together.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, schemars::JsonSchema)]
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

impl FlipSides {
    /// By how much the second is worse: by terms missed, then by weight, then by words.
    fn harm(&self) -> [f64; 3] {
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
    let (compared, changed) = changed(store, first, second)?;
    let (mut lost, mut won) = (0, 0);
    let mut clips = Vec::new();
    for (place, sides) in changed {
        let Some(clip) = store.clip_at(&first.run.run.corpus_checksum, place)? else { continue };
        let count = if sides.is_lost() { &mut lost } else { &mut won };
        *count += 1;
        let readings = if *count <= most { readings(store, first, second, &clip)? } else { None };
        let label = Label::parse(&clip.text).map_or_else(|_| clip.text.clone(), |label| label.first_reading());
        clips.push((Flip { clip: clip.id, label, sides }, readings));
    }
    Ok(Flips { compared, clips })
}

/// How many clips both answered; the places in the first corpus of those that changed sides, in the order of [`Flips`].
///
/// # Errors
/// When the store cannot be read.
pub(crate) fn changed(
    store: &Store,
    first: Side<'_>,
    second: Side<'_>,
) -> Result<(usize, Vec<(u32, FlipSides)>), StoreError> {
    let paired = Paired::new(store, first, second, None)?;
    let facts = ["wer", "term_recall", "weighted_wer"].map(|id| find(id).map(|measure| measure.fact));
    let mut columns = Vec::new();
    for side in [first, second] {
        let mut own = Vec::new();
        for fact in facts.into_iter().flatten() {
            own.push(side.run.fact(store, side.variant, fact)?.0);
        }
        columns.push(own);
    }
    let mut compared = 0;
    let mut changed = Vec::new();
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
        if let (Some(first), Some(second)) = (side(0), side(1)) {
            compared += 1;
            if first != second {
                changed.push((places[0], FlipSides { first, second }));
            }
        }
    }
    let by_harm = |a: &FlipSides, b: &FlipSides| {
        let compared = a.harm().into_iter().zip(b.harm()).map(|(a, b)| b.abs().total_cmp(&a.abs()));
        compared.fold(std::cmp::Ordering::Equal, std::cmp::Ordering::then)
    };
    changed.sort_by(|(at, a), (other, b)| b.is_lost().cmp(&a.is_lost()).then(by_harm(a, b)).then(at.cmp(other)));
    Ok((compared, changed))
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
