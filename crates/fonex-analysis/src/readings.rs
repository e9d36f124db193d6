//! Every clip of a variant word by word: what a page to explore is made of.

use fonex_core::accuracy::{MistakeKind, WordStep};
use fonex_core::align::EditCounts;
use fonex_core::in_parallel;
use fonex_core::latency::LiveLog;
use fonex_core::text::{Label, Token};
use fonex_core::timing::{Span, token_spans};
use fonex_core::{Clip, Heard, Outcome, Task};
use fonex_store::{Store, StoreError, StoredTrial};

use crate::by_clip::ByClip;
use crate::compare::Side;
use crate::labels::{StoredLabel, labels_at};
use crate::view::RunView;
use fonex_core::accuracy::ScoreBuilder;
use fonex_core::measures::find;

/// Clips read before all cores work on them.
const ROUND: usize = 1 << 12;
/// Clips that one core works on at a time.
const PART: usize = 1 << 7;

/// A clip as one variant heard it.
#[derive(Debug, Clone)]
pub struct Reading {
    /// Its label.
    pub clip: Clip,
    /// How its first repeat ended that was answered, or else its first.
    pub outcome: Outcome,
    /// What went wrong there.
    pub detail: Option<String>,
    /// How long that took.
    pub took_ms: Option<f64>,
    /// Timed repeats.
    pub repeats: u64,
    /// Word counts over all answered repeats.
    pub words: EditCounts,
    /// Must-hear terms missed, over all answered repeats; none where the clip lists none.
    pub terms_missed: Option<u64>,
    /// The kinds of mistake made in any answered repeat, each once.
    pub kinds: Vec<MistakeKind>,
    /// The first answered repeat word by word; empty where none was.
    pub steps: Vec<WordStep>,
    /// Where in the audio each word said lies, in the order of the steps, by the label's times.
    pub said: Vec<Option<Span>>,
    /// Where each word heard lies, by the engine's times.
    pub heard: Vec<Option<Span>>,
    /// What came back while the clip was delivered live.
    pub live: Option<Box<LiveLog>>,
}

/// The places in the corpus of the clips in which some of the sides made most mistakes, at most this many, in corpus order; and how
/// many other clips there are.
///
/// # Errors
/// When the store cannot be read.
pub fn hardest(store: &Store, sides: &[Side<'_>], most: usize) -> Result<(Vec<u32>, usize), StoreError> {
    let mut wrong: Vec<(f64, u32)> = Vec::new();
    let Some(measure) = find("wer") else { return Ok((Vec::new(), 0)) };
    for side in sides {
        let (column, places) = side.run.fact(store, side.variant, measure.fact)?;
        let by_clip = ByClip::new(places);
        for clip in &by_clip.clips {
            let trials = by_clip.trials_of(*clip).iter();
            let errors: f64 = trials.map(|trial| column.rows(*trial as usize).iter().skip(1).sum::<f64>()).sum();
            wrong.push((errors, *clip));
        }
    }
    wrong.sort_by_key(|(_, clip)| *clip);
    let by_clip = wrong.chunk_by(|a, b| a.1 == b.1);
    let mut clips: Vec<(f64, u32)> =
        by_clip.map(|sides| (sides.iter().map(|side| side.0).fold(0.0, f64::max), sides[0].1)).collect();
    let others = clips.len().saturating_sub(most);
    if others > 0 {
        clips.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        clips.truncate(most);
        clips.sort_by_key(|(_, clip)| *clip);
    }
    Ok((clips.into_iter().map(|(_, clip)| clip).collect(), others))
}

/// Calls `with` for the clips at some places of the corpus that a recogniser was given, in that order.
///
/// # Errors
/// When the store cannot be read.
pub fn each_reading(
    store: &Store,
    side: Side<'_>,
    places: &[u32],
    mut with: impl FnMut(u32, Reading),
) -> Result<(), StoreError> {
    if side.variant.variant.task != Task::Hear {
        return Ok(());
    }
    let run = side.run;
    let corpus = &run.run.corpus_checksum;
    let empty = run.sheet().empty_score(run.profile());
    let repeats = store.repeats(run.run.id, side.variant.place)?;
    for round in places.chunks(ROUND) {
        let mut given: Vec<(StoredLabel, Vec<StoredTrial>)> = Vec::with_capacity(round.len());
        for label in labels_at(store, corpus, round.iter().copied())? {
            let trials = store.stored_trials_of(run.run.id, side.variant.place, &label.id, repeats)?;
            given.push((label, trials));
        }
        let parts: Vec<_> = given.chunks(PART).collect();
        let read = in_parallel(&parts, |part| {
            let mut scores = empty.clone();
            let read = part.iter().map(|(label, trials)| {
                let clip = side.variant.variant.label(label.read()?);
                Ok((label.place, reading(run, clip, trials, &mut scores)?))
            });
            read.collect::<Result<Vec<_>, StoreError>>()
        });
        for part in read {
            part?.into_iter().filter_map(|(place, read)| Some((place, read?))).for_each(|(p, read)| with(p, read));
        }
    }
    Ok(())
}

fn reading(
    run: &RunView,
    clip: Clip,
    trials: &[StoredTrial],
    scores: &mut ScoreBuilder,
) -> Result<Option<Reading>, StoreError> {
    let Ok(label) = Label::parse(&clip.text) else { return Ok(None) };
    let profile = run.profile();
    let mut found: Option<Reading> = None;
    for trial in trials {
        let trial = trial.read()?;
        let answer = trial.heard.as_ref().filter(|_| trial.outcome.is_answer());
        let first = found.get_or_insert_with(|| Reading {
            clip: clip.clone(),
            outcome: trial.outcome,
            detail: trial.detail.clone(),
            took_ms: trial.took_ms,
            repeats: 0,
            words: EditCounts::default(),
            terms_missed: None,
            kinds: Vec::new(),
            steps: Vec::new(),
            said: Vec::new(),
            heard: Vec::new(),
            live: trial.traffic.live.clone(),
        });
        first.repeats += 1;
        let Some(answer) = answer else { continue };
        let counts = scores.hear(profile, &clip, &label, answer);
        if first.steps.is_empty() {
            first.steps = scores.compared_words().steps;
            (first.said, first.heard) = spans(run, &clip, answer, &first.steps);
            (first.outcome, first.detail, first.took_ms) = (trial.outcome, trial.detail, trial.took_ms);
            first.live = trial.traffic.live;
        }
        first.words += counts.words;
        if let Some([_, missed, ..]) = counts.terms {
            *first.terms_missed.get_or_insert(0) += missed;
        }
        for kind in scores.compared_kinds().iter().flatten() {
            if !first.kinds.contains(kind) {
                first.kinds.push(*kind);
            }
        }
    }
    Ok(found)
}

/// Where the words said and heard lie in the audio.
fn spans(run: &RunView, clip: &Clip, answer: &Heard, steps: &[WordStep]) -> (Vec<Option<Span>>, Vec<Option<Span>>) {
    let profile = &*run.profile().in_language(clip.lang.as_deref());
    let said: Vec<&Token> = steps.iter().filter_map(|step| step.said.as_ref()).collect();
    let heard: Vec<&Token> = steps.iter().filter_map(|step| step.heard.as_ref()).collect();
    let labelled = clip.words.iter().map(|word| (word.text.as_str(), Some(word.start), Some(word.end)));
    let told = answer.words.iter().map(|word| (word.text.as_str(), word.start, word.end));
    (token_spans(profile, &said, labelled), token_spans(profile, &heard, told))
}
