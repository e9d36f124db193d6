//! The trials of a run as lines, one after the other: what is exported.

use fonex_core::Task;
use fonex_core::accuracy::{WordStep, score_clip};
use fonex_core::text::Label;
use fonex_store::{Store, StoreError};

use crate::labels::Labels;
use crate::own::TrialLine;
use crate::view::RunView;

/// Trials read at a time.
const ROUND: usize = 1 << 12;

/// Calls `with` for every timed trial of a run, in the order they were stored, with what was heard word by word where `words`
/// asks for it.
///
/// # Errors
/// When the store cannot be read, and what `with` fails of.
pub fn each_trial_line<E: From<StoreError>>(
    store: &Store,
    view: &RunView,
    words: bool,
    mut with: impl FnMut(&TrialLine, Option<Vec<WordStep>>) -> Result<(), E>,
) -> Result<(), E> {
    let (run, profile) = (&view.run, view.profile());
    let labels = Labels::load(store, &run.corpus_checksum, profile)?;
    let mut scores = labels.empty_score.clone();
    let mut failed: Option<E> = None;
    let read = store.each_round(run.id, ROUND, |trials| {
        for stored in &trials {
            let Some(place) = labels.place(stored.clip_id()).filter(|_| failed.is_none()) else { continue };
            let record = stored.read()?;
            let Some(label) = labels.at(std::iter::once(place))?.pop().filter(|_| !record.key.warm_up) else {
                continue;
            };
            let variant = &run.variants[record.key.variant];
            let clip = variant.label(label.read()?);
            let Some(line) = TrialLine::of(store, run, &record, &clip, profile, &mut scores) else { continue };
            let heard = record.heard.as_ref().filter(|_| words && variant.task == Task::Hear);
            let steps = heard.and_then(|heard| {
                let own = profile.in_language(clip.lang.as_deref());
                Some(score_clip(&own, &Label::parse(&clip.text).ok()?, &heard.text).steps)
            });
            if let Err(error) = with(&line, steps) {
                failed = Some(error);
            }
        }
        Ok(())
    });
    match failed {
        Some(error) => Err(error),
        None => Ok(read?),
    }
}
