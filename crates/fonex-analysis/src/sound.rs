//! How alike voices sound, from the audio that runs have kept. Method: `fonex_core::speech`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use fonex_core::Task;
use fonex_core::audio::measure;
use fonex_core::in_parallel;
use fonex_core::speech::{SoundChange, TextDistance, Timbre, distance_db, sound_change, timbre};
use fonex_core::stats::plane_of;
use fonex_formats::audio::{read_audio, read_side};
use fonex_store::{AudioFiles, Store, StoreError};
use serde::Serialize;

use crate::compare::Side;

/// Texts that are listened to, evenly spread where there are more.
const MOST_TEXTS: usize = 60;
/// The same where many voices are compared with each other.
const TEXTS_OF_A_MATRIX: usize = 12;
/// Repeats of a text that are listened to.
const MOST_REPEATS: usize = 3;

/// The names of the audio that a variant has left, by clip.
type Spoken = BTreeMap<String, Vec<String>>;

/// How far apart two voices, or one voice in two runs, speak the texts they share. None where one of them does not speak, or they share no
/// text.
///
/// # Errors
/// When the store cannot be read. Audio that cannot be read is left out.
pub fn sound_between(store: &Store, first: &Side<'_>, second: &Side<'_>) -> Result<Option<SoundChange>, StoreError> {
    if [first, second].iter().any(|side| side.variant.variant.task != Task::Speak) {
        return Ok(None);
    }
    let (one, other) = (spoken(store, first)?, spoken(store, second)?);
    let shared: Vec<&String> = one.keys().filter(|clip| other.contains_key(*clip)).collect();
    let step = shared.len().div_ceil(MOST_TEXTS).max(1);
    let texts: Vec<&String> = shared.into_iter().step_by(step).collect();
    let files = store.audio_files();
    let heard = |names: &[String]| names.iter().filter_map(|name| timbre_of(&files, name)).collect::<Vec<_>>();
    let distances = in_parallel(&texts, |clip| {
        let (one, other) = (&one[*clip], &other[*clip]);
        TextDistance::of(clip, &heard(one), &heard(other))
    });
    Ok(sound_change(distances.into_iter().flatten().collect()))
}

/// How far apart voices sound.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct Likeness {
    /// The voices, by their names in the run.
    pub voices: Vec<String>,
    /// Texts that all of them spoke and that were listened to.
    pub texts: usize,
    /// Mean distance of each two in decibels, by the places of both.
    pub distances_db: Vec<Vec<f64>>,
    /// Places on a plane where those that sound alike lie close, in decibels.
    pub places: Vec<(f64, f64)>,
}

/// What voices are held against: recordings of the same texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recordings {
    /// What they are called beside the voices.
    pub name: String,
    /// By clip, where its recording is and which side of it.
    pub files: BTreeMap<String, (PathBuf, Option<fonex_core::Side>)>,
}

/// How far apart the voices of a run sound, over texts that all of them spoke; with recordings, over texts of which there is one, and the
/// recordings as a voice of their own. None with fewer than two voices, or without such a text.
///
/// # Errors
/// When the store cannot be read. A text of which some audio cannot be read is left out.
pub fn likeness(
    store: &Store,
    sides: &[Side<'_>],
    recordings: Option<&Recordings>,
) -> Result<Option<Likeness>, StoreError> {
    let files = store.audio_files();
    let voices: Vec<&Side<'_>> = sides.iter().filter(|side| side.variant.variant.task == Task::Speak).collect();
    let mut all: Vec<BTreeMap<String, (PathBuf, Option<fonex_core::Side>)>> = Vec::new();
    for side in &voices {
        let first = |(clip, names): (String, Vec<String>)| Some((clip, (files.path(names.first()?), None)));
        all.push(spoken(store, side)?.into_iter().filter_map(first).collect());
    }
    // Recordings of other texts say nothing here.
    let is_shared = |clip: &String| all.iter().all(|voice| voice.contains_key(clip));
    let recordings = recordings.filter(|recordings| recordings.files.keys().any(is_shared));
    all.extend(recordings.map(|recordings| recordings.files.clone()));
    let Some((one, others)) = all.split_first().filter(|(_, others)| !others.is_empty()) else { return Ok(None) };
    let shared: Vec<&String> =
        one.keys().filter(|clip| others.iter().all(|other| other.contains_key(*clip))).collect();
    let step = shared.len().div_ceil(TEXTS_OF_A_MATRIX).max(1);
    let texts: Vec<&String> = shared.into_iter().step_by(step).collect();
    let heard = in_parallel(&texts, |clip| {
        let timbre = |(path, side): &(PathBuf, Option<fonex_core::Side>)| {
            let audio = read_side(path, *side).ok()?.audio;
            timbre(&audio, &measure(&audio).silence)
        };
        all.iter().map(|voice| timbre(&voice[*clip])).collect::<Option<Vec<Timbre>>>()
    });
    let heard: Vec<Vec<Timbre>> = heard.into_iter().flatten().collect();
    if heard.is_empty() {
        return Ok(None);
    }
    let pairs: Vec<(usize, usize)> = (0..all.len()).flat_map(|i| (0..i).map(move |j| (i, j))).collect();
    let apart = in_parallel(&pairs, |(i, j)| {
        heard.iter().map(|text| distance_db(&text[*i], &text[*j])).sum::<f64>() / heard.len() as f64
    });
    let mut distances_db = vec![vec![0.0; all.len()]; all.len()];
    for ((i, j), apart) in pairs.into_iter().zip(apart) {
        distances_db[i][j] = apart;
        distances_db[j][i] = apart;
    }
    let names = voices.iter().map(|side| side.variant.variant.name.clone());
    let names = names.chain(recordings.map(|recordings| recordings.name.clone()));
    let places = plane_of(&distances_db);
    Ok(Some(Likeness { voices: names.collect(), texts: heard.len(), distances_db, places }))
}

fn timbre_of(files: &AudioFiles, name: &str) -> Option<Timbre> {
    let audio = read_audio(&files.path(name)).ok()?.audio;
    timbre(&audio, &measure(&audio).silence)
}

/// What a variant has spoken, warm-up left out.
fn spoken(store: &Store, side: &Side<'_>) -> Result<Spoken, StoreError> {
    let mut trials: Vec<_> =
        store.spoken(side.run.run.id, std::iter::once(side.variant.place))?.into_iter().collect();
    trials.sort_by(|(a, _), (b, _)| (&a.clip_id, a.repeat).cmp(&(&b.clip_id, b.repeat)));
    let mut spoken = Spoken::new();
    for (key, trial) in trials {
        let Some(name) = trial.audio_file.filter(|_| !key.warm_up) else { continue };
        let own = spoken.entry(key.clip_id).or_default();
        if own.len() < MOST_REPEATS {
            own.push(name);
        }
    }
    Ok(spoken)
}
