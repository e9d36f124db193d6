//! What cannot be read off the facts: what went wrong word by word, and the score with its confusions, terms and bins.

use std::collections::HashMap;

use fonex_core::accuracy::{Answered, Score, ScoreBuilder, WordStep};
use fonex_core::align::EditCounts;
use fonex_core::measures::find;
use fonex_core::text::Label;
use fonex_core::{Clip, Task};
use fonex_store::{Store, StoreError, TrialRecord};
use serde::Serialize;

use crate::view::{ByClip, RunView, VariantView};

/// One clip of a recogniser variant; repeats are added up.
#[derive(Debug, Clone, Serialize)]
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

/// A recogniser variant in depth.
#[derive(Debug)]
pub struct Depth {
    /// Its score, what went wrong included.
    pub score: Score,
    /// The labels, in corpus order.
    pub labels: Vec<Clip>,
    /// The timed trials, in corpus order.
    pub records: Vec<TrialRecord>,
}

/// The score of a variant with all that went wrong. None for other tasks than hearing.
///
/// # Errors
/// When the store cannot be read.
pub fn score_in_depth(store: &Store, run: &RunView, variant: &VariantView) -> Result<Option<Depth>, StoreError> {
    if variant.variant.task != Task::Hear {
        return Ok(None);
    }
    let labels = store.clips(&run.run.corpus_checksum)?;
    let mut by_clip: HashMap<String, Vec<TrialRecord>> = HashMap::new();
    store.each_trial(run.run.id, |trial| {
        if trial.key.variant == variant.place && !trial.key.warm_up {
            by_clip.entry(trial.key.clip_id.clone()).or_default().push(trial);
        }
    })?;
    let profile = run.profile();
    let mut builder = ScoreBuilder::new(&profile.name);
    labels.iter().for_each(|clip| builder.tell_terms(profile, &clip.terms));
    let mut records = Vec::new();
    for clip in &labels {
        let (Some(mut trials), Ok(label)) = (by_clip.remove(&clip.id), Label::parse(&clip.text)) else { continue };
        trials.sort_by_key(|trial| trial.key.repeat);
        let mut answers = Vec::new();
        for trial in &trials {
            match trial.heard.as_ref().filter(|_| trial.outcome.is_answer()) {
                Some(heard) => answers
                    .push(Answered { counts: builder.hear(profile, clip, &label, heard), took_ms: trial.took_ms }),
                None => builder.add_missing(profile, clip, &label),
            }
        }
        if !answers.is_empty() {
            builder.add(clip, &answers);
        }
        records.extend(trials);
    }
    Ok(Some(Depth { score: builder.finish(), labels, records }))
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
        let score = fonex_core::accuracy::score_clip(run.profile(), &label, &heard.text);
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
