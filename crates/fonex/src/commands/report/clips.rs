//! The clips of the report that are shown without scripts and on paper: word by word, and to listen to.

use std::path::{Path, PathBuf};

use fonex_analysis::{ClipResult, Side, clip_result, worst};
use fonex_core::{Clip, Task};
use fonex_formats::{audio_path, corpus_folder};
use fonex_report::{AudioClip, ClipCard, Reading, is_right_to_left, pieces};
use fonex_store::Store;

use super::names::Names;
use super::sounds::Sounds;
use crate::commands::errors_of_words;
use crate::failure::Failure;

/// What is shown of single clips, while there is room for their sound.
pub struct Cards<'c> {
    pub store: &'c Store,
    pub names: &'c Names<'c>,
    /// The folder of the bench file.
    pub folder: PathBuf,
    /// How many of the worst clips are shown for each variant.
    pub worst: usize,
    /// Where their sounds are.
    pub sounds: &'c mut Sounds,
}

impl Cards<'_> {
    /// The clips that some variant got most wrong, behind those that are `first` to be listened to, with what every variant made
    /// of them.
    pub fn clips(&mut self, sides: &[Side<'_>], first: Vec<String>) -> Result<Vec<ClipCard>, Failure> {
        let mut chosen: Vec<(String, f64)> = Vec::new();
        for side in sides.iter().filter(|side| side.variant.variant.hears.is_none()) {
            for clip in worst(self.store, side.run, side.variant, self.worst)? {
                let rate = clip.words.errors() as f64 / clip.words.reference().max(1) as f64;
                match chosen.iter_mut().find(|(id, _)| *id == clip.id) {
                    Some((_, highest)) => *highest = highest.max(rate),
                    None => chosen.push((clip.id, rate)),
                }
            }
        }
        chosen.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        chosen.truncate(self.worst * 2);
        let mut cards = Vec::new();
        let others = chosen.into_iter().map(|(id, _)| id).filter(|id| !first.contains(id)).collect::<Vec<_>>();
        for id in first.iter().chain(&others) {
            cards.extend(self.card(id, sides)?);
        }
        Ok(cards)
    }

    fn card(&mut self, id: &str, sides: &[Side<'_>]) -> Result<Option<ClipCard>, Failure> {
        let mut readings = Vec::new();
        let mut shown: Option<(Clip, PathBuf)> = None;
        let mut right_to_left = false;
        let recordings =
            |side: &&Side<'_>| side.variant.variant.task == Task::Hear && side.variant.variant.hears.is_none();
        for side in sides.iter().filter(recordings) {
            let Some(clip) = self.store.clip_named(&side.run.run.corpus_checksum, id)? else { continue };
            let Some(result) = clip_result(self.store, side.run, side.variant, &clip)? else { continue };
            right_to_left |= is_right_to_left(&result.steps);
            readings.push(self.reading(*side, &result));
            shown.get_or_insert_with(|| (clip, self.folder.join(&side.run.run.corpus_path)));
        }
        let Some((label, corpus)) = shown else { return Ok(None) };
        let audio = audio_path(corpus_folder(&corpus), &label);
        let audio = audio.and_then(|path| self.audio(&path, format!("audio of {id}")));
        Ok(Some(ClipCard {
            id: id.to_owned(),
            facts: facts_of(&label),
            lang: label.lang.clone().unwrap_or_default(),
            right_to_left,
            audio,
            readings,
        }))
    }

    pub(super) fn reading(&self, side: Side<'_>, result: &ClipResult) -> Reading {
        let summary = errors_of_words(result.words.errors(), result.words.reference());
        Reading { variant: self.names.of(side), summary, pieces: pieces(&result.steps, true) }
    }

    /// The audio, where the page has it.
    pub(super) fn audio(&mut self, path: &Path, label: String) -> Option<AudioClip> {
        Some(AudioClip { source: self.sounds.address(path)?, label })
    }
}

/// Tags, speaker and language of a clip, as one line.
pub(super) fn facts_of(clip: &Clip) -> String {
    let tags = clip.tags.iter().map(|(tag, value)| format!("{tag} {value}"));
    let named = [("speaker", &clip.speaker), ("language", &clip.lang)];
    let named = named.into_iter().filter_map(|(what, value)| Some(format!("{what} {}", value.as_ref()?)));
    tags.chain(named).collect::<Vec<_>>().join(", ")
}
