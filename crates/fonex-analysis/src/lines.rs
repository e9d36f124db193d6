//! The trials of a run as lines: what is exported, and what measures of one's own look at.

use fonex_core::Clip;
use fonex_core::Task;
use fonex_core::accuracy::{WordStep, score_clip};
use fonex_core::text::{Label, TextProfile};
use fonex_store::{Run, Store, StoreError, TrialRecord};

use crate::labels::Labels;
use crate::own::TrialLine;
use crate::sheet::Sheet;
use crate::view::RunView;

/// Trials read at a time.
const ROUND: usize = 1 << 12;

/// A timed trial with its label, and both as a line.
pub(crate) struct Lined {
    pub(crate) record: TrialRecord,
    pub(crate) clip: Clip,
    pub(crate) line: TrialLine,
}

/// Calls `with` for rounds of timed trials, in the order they were stored. Trials whose label is not there or cannot be parsed
/// are in no figure, and left out here too.
///
/// # Errors
/// When the store cannot be read, and what `with` fails of.
pub(crate) fn each_lined(
    store: &Store,
    run: &Run,
    profile: &TextProfile,
    mut with: impl FnMut(Vec<Lined>) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let labels = Labels::load(store, &run.corpus_checksum)?;
    let mut scores = Sheet::load(store, &run.corpus_checksum)?.empty_score(profile);
    store.each_round(run.id, ROUND, |trials| {
        let placed = trials.iter().filter_map(|stored| Some((stored, labels.place(stored.clip_id())?)));
        let placed: Vec<_> = placed.collect();
        let mut places: Vec<u32> = placed.iter().map(|(_, place)| *place).collect();
        places.sort_unstable();
        places.dedup();
        let own = labels.at(places.iter().copied())?;
        let mut lined = Vec::with_capacity(placed.len());
        for (stored, place) in placed {
            let record = stored.read()?;
            let Ok(at) = places.binary_search(&place) else { continue };
            if record.key.warm_up {
                continue;
            }
            let clip = run.variants[record.key.variant].label(own[at].read()?);
            if let Some(line) = TrialLine::of(store, run, &record, &clip, profile, &mut scores) {
                lined.push(Lined { record, clip, line });
            }
        }
        with(lined)
    })
}

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
    let profile = view.profile();
    let mut failed: Result<(), E> = Ok(());
    each_lined(store, &view.run, profile, |lined| {
        for Lined { record, clip, line } in lined {
            if failed.is_err() {
                break;
            }
            let heard = record.heard.as_ref().filter(|_| words);
            let heard = heard.filter(|_| view.run.variants[record.key.variant].task == Task::Hear);
            let steps = heard.and_then(|heard| {
                let own = profile.in_language(clip.lang.as_deref());
                Some(score_clip(&own, &Label::parse(&clip.text).ok()?, &heard.text).steps)
            });
            failed = with(&line, steps);
        }
        Ok(())
    })?;
    failed
}
