//! Whether a label was read in another language than its own: what a recogniser stumbles over.

use std::collections::HashMap;
use std::hash::{BuildHasher, Hash, Hasher};
use std::sync::{Mutex, PoisonError};

use foldhash::quality::FixedState;
use fonex_core::Clip;
use fonex_core::audio::{Audio, AudioMeasures, measure};
use fonex_core::material::primary;
use fonex_core::speech::{Timbre, distance_db, timbre};

use crate::{SpeakProfile, speak};

/// A stand-in voice of any pitch and size is nearer to another than this; recordings are further from both.
const STAND_IN_DB: f64 = 5.5;
/// And by so much nearer to the language that it reads.
const NEARER_DB: f64 = 0.7;

/// What was found out before, by what it was asked of.
type Memory<K, V> = Mutex<Option<HashMap<K, V>>>;

/// Of the two languages that the stand-in voice has, the nearer one is what was read. Every model of an engine asks of the same recordings:
/// what was found is remembered.
pub fn is_misread(clip: &Clip, text: &str, audio: &Audio, measures: &AudioMeasures) -> bool {
    static FOUND: Memory<u64, bool> = Mutex::new(None);
    let (own, other) = match clip.lang.as_deref().map(primary) {
        Some("en") => ("en", "de"),
        Some("de") => ("de", "en"),
        _ => return false,
    };
    let mut hasher = FixedState::default().build_hasher();
    (own, text, audio.rate_hz).hash(&mut hasher);
    audio.samples.iter().for_each(|sample| hasher.write_u32(sample.to_bits()));
    remembered(&FOUND, MOST_FOUND, hasher.finish(), || compared(own, other, text, audio, measures))
}

fn compared(own: &str, other: &str, text: &str, audio: &Audio, measures: &AudioMeasures) -> bool {
    let Some(heard) = timbre(audio, &measures.silence) else { return false };
    let apart = |lang: &str| read_in(lang, text).map(|read| distance_db(&heard, &read));
    apart(own).zip(apart(other)).is_some_and(|(own, other)| other < STAND_IN_DB && other + NEARER_DB < own)
}

/// How a text sounds when it is read in a language.
fn read_in(lang: &str, text: &str) -> Option<Timbre> {
    static READ: Memory<(String, String), Option<Timbre>> = Mutex::new(None);
    remembered(&READ, MOST_READ, (lang.to_owned(), text.to_owned()), || {
        let audio = speak(&SpeakProfile::default(), 0, "", text, Some(lang)).audio;
        timbre(&audio, &measure(&audio).silence)
    })
}

/// Answers that are remembered before all are forgotten.
const MOST_FOUND: usize = 1 << 14;
/// Readings likewise: one of a minute has 300 kB.
const MOST_READ: usize = 1 << 7;

/// What is remembered under a key, or else is found out now.
fn remembered<K: Hash + Eq, V: Clone>(memory: &Memory<K, V>, most: usize, key: K, find: impl FnOnce() -> V) -> V {
    let lock = || memory.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = lock().as_ref().and_then(|memory| memory.get(&key)).cloned() {
        return known;
    }
    // Not under the lock: the other cores hear meanwhile.
    let found = find();
    let mut memory = lock();
    let memory = memory.get_or_insert_default();
    if memory.len() >= most {
        memory.clear();
    }
    memory.insert(key, found.clone());
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_remembered_is_what_was_found() {
        let clip = |lang: &str| Clip {
            text: "the cabin holds at the upper pylon and the wind is rising".to_owned(),
            lang: Some(lang.to_owned()),
            ..Clip::default()
        };
        for (label, read) in [("en", "en"), ("en", "de"), ("de", "de"), ("de", "en")] {
            let clip = clip(label);
            let audio = speak(&SpeakProfile::default(), 3, "", &clip.text, Some(read)).audio;
            let measures = measure(&audio);
            let other = if label == "en" { "de" } else { "en" };
            let fresh = compared(label, other, &clip.text, &audio, &measures);
            assert_eq!(fresh, label != read);
            for _ in 0..2 {
                assert_eq!(is_misread(&clip, &clip.text, &audio, &measures), fresh, "{label} read in {read}");
            }
        }
    }

    #[test]
    fn memory_has_an_end_and_forgets_nothing_wrong() {
        let memory = Mutex::new(None);
        for round in 0..3 {
            for key in 0..MOST_READ + 10 {
                assert_eq!(remembered(&memory, MOST_READ, key, || key * 2), key * 2, "round {round}");
            }
        }
        assert!(memory.lock().unwrap().as_ref().is_some_and(|memory| memory.len() <= MOST_READ));
    }
}
