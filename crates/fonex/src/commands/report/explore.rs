//! The clips of the report that can be explored: every one of them, word by word, with its sound.

use std::path::PathBuf;

use fonex_analysis::{RunView, Side, each_reading, hardest};
use fonex_core::Task;
use fonex_core::latency::LiveWhat;
use fonex_core::text::Label;
use fonex_formats::{audio_path, corpus_folder};
use fonex_report::{Book, BookClip, BookKey, BookTrial, ClipCard};
use fonex_store::TrialKey;

use super::clips::Cards;
use crate::failure::Failure;

/// Values beyond which what clips share is no filter.
const MOST_VALUES: usize = 200;

impl Cards<'_> {
    /// Every clip that some recogniser was given, at most `most`, those with fewest mistakes left out. `cards` are those that the
    /// page shows anyway, with their sound.
    pub fn book(
        &mut self,
        runs: &[RunView],
        sides: &[Side<'_>],
        cards: &[ClipCard],
        most: usize,
    ) -> Result<Option<Book>, Failure> {
        let hearing: Vec<Side<'_>> =
            sides.iter().copied().filter(|side| side.variant.variant.task == Task::Hear).collect();
        if hearing.is_empty() || most == 0 {
            return Ok(None);
        }
        let keys = keys_of(runs);
        let names = hearing.iter().map(|side| self.names.of(*side));
        let mut places = Vec::new();
        let mut left_out = 0;
        for run in runs {
            let own: Vec<Side<'_>> = hearing.iter().filter(|side| side.run.run.id == run.run.id).copied().collect();
            let (chosen, others) = hardest(self.store, &own, most)?;
            left_out = left_out.max(others);
            places.push(chosen);
        }
        let mut book = Book::new(names, keys.iter().map(|(key, _)| key.clone()).collect(), left_out as u64);
        let mut harm: Vec<u64> = Vec::new();
        let mut recordings: Vec<Option<PathBuf>> = Vec::new();
        for (variant, side) in hearing.iter().enumerate() {
            let run = runs.iter().position(|run| run.run.id == side.run.run.id).unwrap_or_default();
            let corpus = self.folder.join(&runs[run].run.corpus_path);
            each_reading(self.store, *side, &places[run], |place, reading| {
                let clip = book.place(&reading.clip.id).unwrap_or_else(|| {
                    harm.push(0);
                    recordings.push(None);
                    let of = keys.iter().map(|(_, of_run)| of_run[run].get(place as usize).copied().unwrap_or(0));
                    let label = Label::parse(&reading.clip.text);
                    book.add_clip(BookClip {
                        id: reading.clip.id.clone(),
                        text: label.map_or_else(|_| reading.clip.text.clone(), |label| label.first_reading()),
                        lang: reading.clip.lang.clone().unwrap_or_default(),
                        of: of.collect(),
                    })
                });
                harm[clip] = harm[clip].max(reading.words.errors());
                if side.variant.variant.hears.is_none() && recordings[clip].is_none() {
                    recordings[clip] = audio_path(corpus_folder(&corpus), &reading.clip);
                }
                let events = reading.live.iter().flat_map(|log| &log.events);
                let live = events.map(|event| (event.at_ms.round(), kind_of(event.what), event.text.clone()));
                let trial = BookTrial {
                    outcome: reading.outcome,
                    detail: reading.detail.as_deref(),
                    took_ms: reading.took_ms,
                    repeats: reading.repeats,
                    wrong: reading.words.errors(),
                    said: reading.words.reference(),
                    missed: reading.terms_missed,
                    kinds: &reading.kinds,
                    steps: &reading.steps,
                    said_at: &reading.said,
                    heard_at: &reading.heard,
                    live: live.collect(),
                };
                book.tell(variant, clip, trial);
            })?;
        }
        self.sounds_of(&mut book, &hearing, cards, &harm, &recordings)?;
        Ok((!book.is_empty()).then_some(book))
    }

    /// Tells the book where its sounds are, the clips with most mistakes first: they have the room.
    fn sounds_of(
        &mut self,
        book: &mut Book,
        hearing: &[Side<'_>],
        cards: &[ClipCard],
        harm: &[u64],
        recordings: &[Option<PathBuf>],
    ) -> Result<(), Failure> {
        let mut order: Vec<usize> = (0..book.len()).collect();
        order.sort_by_key(|clip| std::cmp::Reverse(harm[*clip]));
        let mut shown = vec![false; book.len()];
        for (at, card) in cards.iter().enumerate().filter(|(_, card)| card.audio.is_some()) {
            if let Some(clip) = book.place(&card.id) {
                shown[clip] = true;
                book.tell_sound(None, clip, format!("#sound-{at}"));
            }
        }
        for clip in order.into_iter().filter(|clip| !shown[*clip]) {
            if let Some(address) = recordings[clip].as_ref().and_then(|path| self.sounds.address(path)) {
                book.tell_sound(None, clip, address);
            }
        }
        for (variant, side) in hearing.iter().enumerate() {
            let Some(voice) = side.variant.variant.hears else { continue };
            for (key, spoken) in self.store.spoken(side.run.run.id, std::iter::once(voice))? {
                let TrialKey { clip_id, repeat: 0, warm_up: false, .. } = key else { continue };
                let Some((clip, file)) = book.place(&clip_id).zip(spoken.audio_file) else { continue };
                if let Some(address) = self.sounds.address(&self.store.audio_files().path(&file)) {
                    book.tell_sound(Some(variant), clip, address);
                }
            }
        }
        Ok(())
    }
}

/// What clips share, with the value of each clip of each run.
fn keys_of(runs: &[RunView]) -> Vec<(BookKey, Vec<Vec<u32>>)> {
    let mut keys: Vec<(BookKey, Vec<Vec<u32>>)> = Vec::new();
    for (run, view) in runs.iter().enumerate() {
        for key in view.sheet().keys.iter().filter(|key| (2..=MOST_VALUES).contains(&key.values.len())) {
            let at = keys.iter().position(|(known, _)| known.by == key.by).unwrap_or_else(|| {
                let known = BookKey { by: key.by.clone(), values: Vec::new() };
                keys.push((known, vec![Vec::new(); runs.len()]));
                keys.len() - 1
            });
            let (known, of_run) = &mut keys[at];
            // The numbers of another corpus stand for other values.
            let numbers: Vec<u32> = std::iter::once(0)
                .chain(key.values.iter().map(|value| {
                    let place = known.values.iter().position(|other| other == value).unwrap_or_else(|| {
                        known.values.push(value.clone());
                        known.values.len() - 1
                    });
                    place as u32 + 1
                }))
                .collect();
            of_run[run] = key.of_clip.iter().map(|value| numbers[*value as usize]).collect();
        }
    }
    keys
}

const fn kind_of(what: LiveWhat) -> &'static str {
    match what {
        LiveWhat::Ready => "ready",
        LiveWhat::Interim => "interim",
        LiveWhat::Final => "final",
        LiveWhat::EndOfSpeech => "end_of_speech",
    }
}
