//! The clips of the report: word by word, and to listen to.

use std::fs;
use std::path::{Path, PathBuf};

use fonex_analysis::{ClipResult, Side, clip_result, worst};
use fonex_core::{Clip, Task};
use fonex_report::figures::figure;
use fonex_report::{AudioClip, ClipCard, Reading, VariantCards, data_uri, is_right_to_left, pieces};
use fonex_store::Store;

use super::names::Names;
use crate::commands::errors_of_words;
use crate::failure::Failure;

/// Audio embedded in one report, in bytes; further clips are shown without their sound.
const MOST_AUDIO: usize = 12 << 20;

/// What is shown of single clips, while there is room for their sound.
pub struct Cards<'c> {
    pub store: &'c Store,
    pub names: &'c Names<'c>,
    /// The folder of the bench file.
    pub folder: PathBuf,
    /// How many of the worst clips are shown for each variant.
    pub worst: usize,
    room: usize,
}

impl<'c> Cards<'c> {
    pub fn new(store: &'c Store, names: &'c Names<'c>, folder: &Path, worst: usize) -> Self {
        Self { store, names, folder: folder.to_owned(), worst, room: MOST_AUDIO }
    }

    /// The clips that some variant got most wrong, with what every variant made of them.
    pub fn clips(&mut self, sides: &[Side<'_>]) -> Result<Vec<ClipCard>, Failure> {
        let mut chosen: Vec<(String, f64)> = Vec::new();
        for side in sides {
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
        for (id, _) in chosen {
            cards.extend(self.card(&id, sides)?);
        }
        Ok(cards)
    }

    fn card(&mut self, id: &str, sides: &[Side<'_>]) -> Result<Option<ClipCard>, Failure> {
        let mut labels: Vec<(String, Vec<Clip>)> = Vec::new();
        let mut readings = Vec::new();
        let mut shown: Option<(Clip, PathBuf)> = None;
        let mut right_to_left = false;
        for side in sides.iter().filter(|side| side.variant.variant.task == Task::Hear) {
            let checksum = &side.run.run.corpus_checksum;
            if labels.iter().all(|(known, _)| known != checksum) {
                labels.push((checksum.clone(), self.store.clips(checksum)?));
            }
            let corpus = &labels.iter().find(|(known, _)| known == checksum).expect("it was put there").1;
            let Some(clip) = corpus.iter().find(|clip| clip.id == id) else { continue };
            let Some(result) = clip_result(self.store, side.run, side.variant, clip)? else { continue };
            right_to_left |= is_right_to_left(&result.steps);
            readings.push(self.reading(*side, &result));
            shown.get_or_insert_with(|| (clip.clone(), self.folder.join(&side.run.run.corpus_path)));
        }
        let Some((label, corpus)) = shown else { return Ok(None) };
        let tags = label.tags.iter().map(|(tag, value)| format!("{tag} {value}"));
        let named = [("speaker", &label.speaker), ("language", &label.lang)];
        let named = named.into_iter().filter_map(|(what, value)| Some(format!("{what} {}", value.as_ref()?)));
        let audio = label.audio.as_ref().and_then(|audio| {
            let path = if corpus.is_dir() { corpus.join(audio) } else { corpus.parent()?.join(audio) };
            self.embedded(&path, format!("audio of {id}"))
        });
        Ok(Some(ClipCard {
            id: id.to_owned(),
            facts: tags.chain(named).collect::<Vec<_>>().join(", "),
            lang: label.lang.clone().unwrap_or_default(),
            right_to_left,
            audio,
            readings,
        }))
    }

    fn reading(&self, side: Side<'_>, result: &ClipResult) -> Reading {
        let summary = errors_of_words(result.words.errors(), result.words.reference());
        Reading { variant: self.names.of(side), summary, pieces: pieces(&result.steps, true) }
    }

    /// Some of what each synthesiser spoke.
    pub fn spoken(&mut self, sides: &[Side<'_>]) -> Result<Vec<VariantCards>, Failure> {
        let mut cards = Vec::new();
        for side in sides.iter().filter(|side| side.variant.variant.task == Task::Speak) {
            let said = side
                .variant
                .measures
                .iter()
                .filter(|(measure, _)| ["pace", "peak_dbfs", "clipped_clips"].contains(&measure.id));
            let said = said.map(|(measure, estimate)| {
                format!("{} {}", measure.name, figure(measure.unit, Some(estimate.value)))
            });
            let mut files: Vec<(String, String)> = Vec::new();
            self.store.each_trial(side.run.run.id, |trial| {
                let own = trial.key.variant == side.variant.place && trial.key.repeat == 0 && !trial.key.warm_up;
                if let Some(file) = trial.audio_file.filter(|_| own && files.len() < self.worst) {
                    files.push((trial.key.clip_id, file));
                }
            })?;
            let labels = self.store.clips(&side.run.run.corpus_checksum)?;
            let mut clips = Vec::new();
            for (id, file) in files {
                let text = labels.iter().find(|clip| clip.id == id).map_or("", |clip| clip.text.as_str());
                let path = self.store.audio_files().path(&file);
                clips.extend(self.embedded(&path, format!("{id}: {text}")));
            }
            let summary = said.collect::<Vec<_>>().join(", ");
            cards.push(VariantCards { variant: self.names.of(*side), summary, clips });
        }
        Ok(cards)
    }

    /// The audio as a data URI, while there is room and it is of a kind that browsers play.
    fn embedded(&mut self, path: &Path, label: String) -> Option<AudioClip> {
        let media_type = match path.extension()?.to_str()?.to_lowercase().as_str() {
            "flac" => "audio/flac",
            "wav" => "audio/wav",
            "mp3" => "audio/mpeg",
            "ogg" | "opus" => "audio/ogg",
            "m4a" => "audio/mp4",
            _ => return None,
        };
        let length = fs::metadata(path).ok()?.len() as usize;
        self.room = self.room.checked_sub(length)?;
        Some(AudioClip { source: data_uri(media_type, &fonex_formats::regular::read(path, 256 << 20).ok()?), label })
    }
}
