//! The clips of the report: word by word, and to listen to.

use std::collections::HashMap;
use std::fs;
use std::path::Path;

use fonex_report::{AudioClip, ClipCard, Reading, VariantCards, data_uri, is_right_to_left, pieces};

use super::Builder;
use crate::analysis::Side;
use crate::output::plural;

impl Builder<'_> {
    /// The clips that some variant got most wrong, with what every variant made of them.
    pub(super) fn clips(&mut self, sides: &[Side<'_>]) -> Vec<ClipCard> {
        let mut worst: Vec<(String, f64)> = Vec::new();
        for side in sides {
            for clip in side.variant.worst(self.worst) {
                let rate = clip.words.errors() as f64 / clip.words.reference().max(1) as f64;
                match worst.iter_mut().find(|(id, _)| *id == clip.id) {
                    Some((_, highest)) => *highest = highest.max(rate),
                    None => worst.push((clip.id.clone(), rate)),
                }
            }
        }
        worst.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        worst.truncate(self.worst * 2);
        worst.into_iter().filter_map(|(id, _)| self.card(&id, sides)).collect()
    }

    fn card(&mut self, id: &str, sides: &[Side<'_>]) -> Option<ClipCard> {
        let view = self.runs.iter().find(|run| run.labels.contains_key(id))?;
        let label = &view.labels[id];
        let mut right_to_left = false;
        let readings = sides
            .iter()
            .filter_map(|side| {
                let clip = side.variant.clips.iter().find(|clip| clip.id == id)?;
                right_to_left |= is_right_to_left(&clip.steps);
                let wrong = format!("{} of {} wrong", clip.words.errors(), plural(clip.words.reference(), "word"));
                Some(Reading { variant: self.name(side), summary: wrong, pieces: pieces(&clip.steps, true) })
            })
            .collect();
        let tags = label.tags.iter().map(|(tag, value)| format!("{tag} {value}"));
        let named = [("speaker", &label.speaker), ("language", &label.lang)];
        let named = named.into_iter().filter_map(|(what, value)| Some(format!("{what} {}", value.as_ref()?)));
        let corpus = self.folder.join(&view.run.corpus_path);
        let audio = label.audio.as_ref().and_then(|audio| {
            let path = if corpus.is_dir() { corpus.join(audio) } else { corpus.parent()?.join(audio) };
            self.embedded(&path, format!("audio of {id}"))
        });
        Some(ClipCard {
            id: id.to_owned(),
            facts: tags.chain(named).collect::<Vec<_>>().join(", "),
            lang: label.lang.clone().unwrap_or_default(),
            right_to_left,
            audio,
            readings,
        })
    }

    pub(super) fn spoken(&mut self, sides: &[Side<'_>]) -> Vec<VariantCards> {
        let mut cards = Vec::new();
        for side in sides {
            let Some(speech) = &side.variant.speech else { continue };
            let pace = speech.words_per_minute.map_or_else(String::new, |w| format!("{w:.0} words a minute, "));
            let peak = speech.peak_dbfs.map_or_else(String::new, |p| format!("peak {p:.1} dBFS, "));
            let summary = format!(
                "{pace}{peak}{} of {} with clipped samples",
                speech.clipped_clips,
                plural(speech.clips, "clip")
            );
            let texts: HashMap<&str, &str> =
                side.run.labels.iter().map(|(id, clip)| (id.as_str(), clip.text.as_str())).collect();
            let mut clips = Vec::new();
            for trial in side.variant.records.iter().filter(|trial| trial.key.repeat == 0).take(self.worst) {
                let id = trial.key.clip_id.as_str();
                let label = format!("{id}: {}", texts.get(id).copied().unwrap_or_default());
                let path = trial.audio_file.as_ref().map(|name| self.store.audio_files().path(name));
                clips.extend(path.and_then(|path| self.embedded(&path, label)));
            }
            cards.push(VariantCards { variant: self.name(side), summary, clips });
        }
        cards
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
        Some(AudioClip { source: data_uri(media_type, &fs::read(path).ok()?), label })
    }
}
