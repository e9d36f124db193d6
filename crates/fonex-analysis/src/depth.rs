//! What cannot be read off the facts: what went wrong word by word, and the score with its confusions, terms and bins.

use fonex_core::accuracy::{Answered, Measured, Score, ScoreBuilder, WordStep};
use fonex_core::align::EditCounts;
use fonex_core::in_parallel;
use fonex_core::measures::{ESTIMATORS_VERSION, find};
use fonex_core::text::Label;
use fonex_core::{Clip, Task};
use fonex_store::{Store, StoreError, StoredTrial};
use serde::Serialize;

use crate::by_clip::ByClip;
use crate::labels::{StoredLabel, labels_at};
use crate::rounds::in_rounds;
use crate::view::{RunView, VariantView};

/// One clip of a recogniser variant; repeats are added up.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct ClipResult {
    /// The clip.
    #[serde(skip)]
    pub id: String,
    /// Word counts over all answered repeats.
    pub words: EditCounts,
    /// Character counts over all answered repeats.
    pub characters: EditCounts,
    /// The first answered repeat word by word.
    pub steps: Vec<WordStep>,
}

/// Raised whenever a score in depth holds something else, or counts otherwise.
const VERSION: u32 = 1;
/// Clips read before all cores work on them.
const ROUND: usize = 1 << 13;
/// Clips of one part that one core works on. It decides how results are grouped, so it does not depend on the machine.
const PART: usize = 1 << 10;

/// A label with the trials of its clip.
type TrialsOf = (StoredLabel, Vec<StoredTrial>);

/// The score of a variant with all that went wrong, kept beside its facts. None for other tasks than hearing.
///
/// # Errors
/// When the store cannot be read.
pub fn score_in_depth(store: &Store, run: &RunView, variant: &VariantView) -> Result<Option<Score>, StoreError> {
    if variant.variant.task != Task::Hear {
        return Ok(None);
    }
    let name = format!("depth/{VERSION}/{ESTIMATORS_VERSION}");
    let made = || Ok(Score { measures: Measured::default(), ..aligned_again(store, run, variant)? });
    let score = match run.only() {
        Some(_) => made()?,
        None => run.facts().kept_or_made(store, variant.place, name, made)?,
    };
    // The figures of the run are those of its facts, in which repeats share the weight of their clip.
    Ok(Some(Score { measures: variant.measures.clone(), ..score }))
}

/// Aligns every text of a variant again.
fn aligned_again(store: &Store, run: &RunView, variant: &VariantView) -> Result<Score, StoreError> {
    let empty = &run.sheet().empty_score(run.profile());
    let clips = run.sheet().clips;
    let repeats = store.repeats(run.run.id, variant.place)?;
    let with_trials = |label: StoredLabel| {
        let trials = store.stored_trials_of(run.run.id, variant.place, &label.id, repeats)?;
        Ok((label, trials))
    };
    let read = |then: &mut dyn FnMut(Vec<TrialsOf>) -> Result<(), StoreError>| {
        for first in (0..clips).step_by(ROUND) {
            let round = first..clips.min(first + ROUND as u32);
            let inside = round.filter(|place| run.only().is_none_or(|only| only.holds(*place)));
            let labels = labels_at(store, &run.run.corpus_checksum, inside)?;
            then(labels.into_iter().map(with_trials).collect::<Result<_, StoreError>>()?)?;
        }
        Ok(())
    };
    let builder = in_rounds(read, &mut |(): ()| Ok(()), |rounds, _| {
        let mut whole = empty.clone();
        for round in rounds {
            let parts: Vec<&[TrialsOf]> = round.chunks(PART).collect();
            let scored = in_parallel(&parts, |part| {
                let mut builder = empty.clone();
                part.iter().try_for_each(|(label, trials)| {
                    add_clip(&mut builder, run, &variant.variant.label(label.read()?), trials)
                })?;
                Ok::<_, StoreError>(builder)
            });
            for part in scored {
                whole.take_in(&mut part?);
            }
        }
        Ok(whole)
    })?;
    Ok(builder.finish())
}

/// Adds the timed trials of a clip, its repeats in order.
fn add_clip(
    builder: &mut ScoreBuilder,
    run: &RunView,
    clip: &Clip,
    trials: &[StoredTrial],
) -> Result<(), StoreError> {
    let profile = run.profile();
    let Ok(label) = Label::parse(&clip.text) else { return Ok(()) };
    if clip.is_disputed() {
        return Ok(());
    }
    let (mut answers, mut failed) = (Vec::new(), 0);
    for trial in trials {
        let trial = trial.read()?;
        match trial.heard.as_ref().filter(|_| trial.outcome.is_answer()) {
            Some(heard) => {
                answers.push(Answered { counts: builder.hear(profile, clip, &label, heard), took_ms: trial.took_ms });
            }
            None => failed += 1,
        }
    }
    if answers.is_empty() && failed == 0 {
        return Ok(());
    }
    if answers.is_empty() {
        builder.add_missing(profile, clip, &label);
        failed -= 1;
    } else {
        builder.add(clip, &answers);
    }
    builder.add_failed_repeats(profile, &label, failed);
    Ok(())
}

/// The clips with the most wrong words, worst first, word by word; clips without an error are not among them.
///
/// # Errors
/// When the store cannot be read.
pub fn worst(
    store: &Store,
    run: &RunView,
    variant: &VariantView,
    most: usize,
) -> Result<Vec<ClipResult>, StoreError> {
    let Some(measure) = find("wer").filter(|_| variant.variant.task == Task::Hear) else { return Ok(Vec::new()) };
    let (column, places) = run.fact(store, variant, measure.fact)?;
    let by_clip = ByClip::new(places);
    let mut rates: Vec<(f64, u32)> = Vec::new();
    for clip in &by_clip.clips {
        let (mut wrong, mut said) = (0.0, 0.0);
        for trial in by_clip.trials_of(*clip) {
            if let [correct, substituted, deleted, inserted] = column.rows(*trial as usize) {
                wrong += substituted + deleted + inserted;
                said += correct + substituted + deleted;
            }
        }
        if wrong > 0.0 {
            rates.push((wrong / said.max(1.0), *clip));
        }
    }
    rates.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut results = Vec::new();
    for (_, place) in rates.into_iter().take(most) {
        if let Some(clip) = store.clip_at(&run.run.corpus_checksum, place)? {
            results.extend(clip_result(store, run, variant, &clip)?);
        }
    }
    Ok(results)
}

/// One clip of a variant, word by word. None where it was not answered.
///
/// # Errors
/// When the store cannot be read.
pub fn clip_result(
    store: &Store,
    run: &RunView,
    variant: &VariantView,
    clip: &Clip,
) -> Result<Option<ClipResult>, StoreError> {
    let Ok(label) = Label::parse(&clip.text) else { return Ok(None) };
    let mut result: Option<ClipResult> = None;
    for trial in store.trials_of_clip(run.run.id, variant.place, &clip.id)? {
        let Some(heard) = trial.heard.as_ref().filter(|_| trial.outcome.is_answer()) else { continue };
        let score =
            fonex_core::accuracy::score_clip(&run.profile().in_language(clip.lang.as_deref()), &label, &heard.text);
        match &mut result {
            Some(result) => {
                result.words += score.words;
                result.characters += score.characters;
            }
            None => {
                let (words, characters, steps) = (score.words, score.characters, score.steps);
                result = Some(ClipResult { id: clip.id.clone(), words, characters, steps });
            }
        }
    }
    Ok(result)
}
