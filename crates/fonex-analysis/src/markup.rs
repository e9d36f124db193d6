//! What markup asks of the answers of a run, and whether they do it: each beside the same text without markup by the same voice.

use std::collections::HashMap;

use fonex_core::speech::{Followed, SpeechMeasures, followed, read_markup};
use fonex_core::text::Label;
use fonex_core::{Clip, Task};
use fonex_store::{Run, Store, StoreError};

/// Trials read at once.
const ROUND: usize = 1 << 12;

/// The answers to plain texts that some other clip has with markup.
pub(crate) struct PlainTwins {
    /// By variant, language and text.
    spoken: HashMap<(usize, String, String), SpeechMeasures>,
}

/// How an answer to a text with markup is held against it.
fn key(variant: usize, clip: &Clip) -> (usize, String, String) {
    let text = Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    (variant, clip.lang.clone().unwrap_or_default(), text)
}

impl PlainTwins {
    /// Those of a run; none where no voice speaks, or no clip has markup.
    pub(crate) fn load(store: &Store, run: &Run) -> Result<Self, StoreError> {
        let mut twins = Self { spoken: HashMap::new() };
        let speaks = run.variants.iter().any(|variant| variant.task == Task::Speak);
        // The labels of a large corpus are not taken into memory for nothing.
        if !speaks || !store.has_markup(&run.corpus_checksum)? {
            return Ok(twins);
        }
        let clips = store.clips(&run.corpus_checksum)?;
        let marked: std::collections::HashSet<_> =
            clips.iter().filter(|clip| clip.ssml.is_some()).map(|clip| key(0, clip)).collect();
        let plain: HashMap<&str, &Clip> = clips
            .iter()
            .filter(|clip| clip.ssml.is_none() && marked.contains(&key(0, clip)))
            .map(|clip| (clip.id.as_str(), clip))
            .collect();
        if plain.is_empty() {
            return Ok(twins);
        }
        store.each_round(run.id, ROUND, |trials| {
            for stored in trials.into_iter().filter(|stored| plain.contains_key(stored.clip_id())) {
                let trial = stored.read()?;
                // The first take stands for all.
                if let (Some(speech), 0, false) = (trial.speech, trial.key.repeat, trial.key.warm_up) {
                    twins.spoken.insert(key(trial.key.variant, plain[trial.key.clip_id.as_str()]), speech);
                }
            }
            Ok(())
        })?;
        Ok(twins)
    }

    /// What the markup of a clip asked of an answer, and how much of it is done. None without markup, or where it cannot be read.
    pub(crate) fn followed(&self, variant: usize, clip: &Clip, speech: Option<&SpeechMeasures>) -> Option<Followed> {
        let markup = read_markup(clip.ssml.as_deref()?).ok()?;
        let plain = self.spoken.get(&key(variant, clip));
        Some(followed(&markup, clip.lang.as_deref(), speech?, plain))
    }
}
