//! The sounds of a panel: what voices spoke in stored runs, and the recordings they are held against.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use fonex_analysis::panel::{PanelSound, PanelText, PanelVoice, SoundRole, VoiceRole};
use fonex_core::audio::Audio;
use fonex_core::panel::{drowned, low_anchor};
use fonex_core::text::Label;
use fonex_core::{Clip, Task, in_parallel};
use fonex_formats::audio::{read_audio, read_side};
use fonex_formats::{Place, Problem, audio_path, corpus_folder};
use fonex_store::{Run, Store};

use crate::failure::Failure;
use crate::output;

/// A voice with the names of the files it has left, by clip.
pub struct Spoken {
    pub voice: PanelVoice,
    files: BTreeMap<String, PathBuf>,
}

/// Voices that have a chance to be heard out.
const MOST_VOICES: usize = 12;

/// The voices of some runs; `wanted` names those to take, all where it is empty.
pub fn spoken(store: &Store, runs: &[Run], wanted: &[String]) -> Result<Vec<Spoken>, Failure> {
    let mut all = Vec::new();
    for run in runs {
        for (place, variant) in run.variants.iter().enumerate().filter(|(_, variant)| variant.task == Task::Speak) {
            let name = if runs.len() > 1 { format!("{}:{}", run.id, variant.name) } else { variant.name.clone() };
            let short = [&name, &variant.name, &variant.voice];
            if !wanted.is_empty() && !wanted.iter().any(|wanted| short.contains(&wanted)) {
                continue;
            }
            let mut files = BTreeMap::new();
            for (key, trial) in store.spoken(run.id, std::iter::once(place))? {
                if let (Some(file), 0, false) = (trial.audio_file, key.repeat, key.warm_up) {
                    files.insert(key.clip_id, store.audio_files().path(&file));
                }
            }
            let role = VoiceRole::Voice;
            let voice = PanelVoice { name, role, run: Some(run.id), variant: Some(variant.name.clone()) };
            all.push(Spoken { voice, files });
        }
    }
    let known = || runs.iter().flat_map(|run| &run.variants).filter(|variant| variant.task == Task::Speak);
    for typed in wanted {
        let is_it = |spoken: &&Spoken| {
            let variant = spoken.voice.variant.as_deref().unwrap_or_default();
            spoken.voice.name == *typed || variant == typed || variant.rsplit('/').next() == Some(typed)
        };
        if !all.iter().any(|spoken| is_it(&spoken)) {
            let names: Vec<String> =
                known().flat_map(|variant| [variant.voice.clone(), variant.name.clone()]).collect();
            let what = format!("no voice \"{typed}\" spoke in these runs");
            return Err(fonex_run::unknown(what, typed, &names, Place::default().field("--voice")).into());
        }
    }
    if all.len() > MOST_VOICES {
        let problem = Problem::new(format!("{} voices are too many for one panel", all.len()), Place::default());
        return Err(problem.expected(format!("up to {MOST_VOICES}")).remedy("name some with --voice").into());
    }
    Ok(all)
}

/// The texts that all voices spoke, and of which there is a recording where one is needed; up to `most`, spread over the corpus.
pub fn texts(voices: &[Spoken], clips: &[Clip], recordings: Option<&Recordings>, most: usize) -> Vec<PanelText> {
    let spoken = |clip: &&Clip| voices.iter().all(|voice| voice.files.contains_key(&clip.id));
    let recorded = |clip: &&Clip| recordings.is_none_or(|recordings| recordings.path(clip).is_some());
    let all: Vec<&Clip> = clips.iter().filter(spoken).filter(recorded).collect();
    let text = |clip: &Clip| Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
    let count = most.min(all.len());
    let chosen = (0..count).map(|at| all[at * all.len() / count]);
    chosen.map(|clip| PanelText { clip: clip.id.clone(), text: text(clip) }).collect()
}

/// Where the recordings of a corpus are.
pub struct Recordings {
    corpus: PathBuf,
}

impl Recordings {
    pub fn of(run: &Run, folder: &Path) -> Self {
        Self { corpus: folder.join(&run.corpus_path) }
    }

    fn path(&self, clip: &Clip) -> Option<PathBuf> {
        audio_path(corpus_folder(&self.corpus), clip).filter(|path| path.is_file())
    }
}

/// Reads or makes every sound, in the order of their numbers. What reference and anchor are made from stands before the voices.
pub fn read(
    sounds: &[PanelSound],
    voices: &[(VoiceRole, Option<&Spoken>)],
    texts: &[PanelText],
    clips: &[Clip],
    recordings: Option<&Recordings>,
    seed: u64,
) -> Result<Vec<Audio>, Failure> {
    let read = in_parallel(sounds, |sound| {
        let text = &texts[sound.text as usize];
        let (role, spoken) = voices[sound.voice as usize];
        let audio = match (role, spoken) {
            (VoiceRole::Voice, Some(spoken)) => {
                let path = &spoken.files[&text.clip];
                let read = read_audio(path).map_err(|error| Problem::new(error.to_string(), Place::file(path)));
                read.map_err(|problem| problem.remedy("run the plan again: its audio was deleted or damaged"))?.audio
            }
            _ => {
                let clip = clips.iter().find(|clip| clip.id == text.clip).expect("texts are clips");
                let path = recordings.and_then(|recordings| recordings.path(clip)).expect("such texts were chosen");
                let decoded = read_side(&path, clip.side)
                    .map_err(|error| Problem::new(error.to_string(), Place::file(&path)))?;
                if role == VoiceRole::Anchor { low_anchor(&decoded.audio) } else { decoded.audio }
            }
        };
        if audio.samples.is_empty() {
            let what = format!("{} is empty", text.clip);
            return Err(Problem::new(what, Place::default()).remedy("leave the voice out with --voice"));
        }
        Ok(if sound.role == SoundRole::Check { drowned(&audio, seed + u64::from(sound.text)) } else { audio })
    });
    let mut all = Vec::new();
    for sound in read {
        all.push(sound?);
    }
    if all.iter().any(|audio| audio.rate_hz < 8_000) {
        output::caution("some sound has fewer than 8,000 samples a second");
    }
    Ok(all)
}
