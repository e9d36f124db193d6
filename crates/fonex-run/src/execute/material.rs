//! The clips of a plan, decoded once, so that what cannot be used is known before the first trial.

use fonex_core::{Clip, Task};
use fonex_engines::Transport;
use fonex_formats::{Corpus, Place, Problem, audio_path};
use fonex_store::LeftOut;

use super::trial::{Heardable, Sound};
use crate::bench::{Bench, Plan};

/// The clips of a plan, with their audio where a recogniser takes part.
pub(crate) struct Material {
    pub(crate) usable: Vec<Heardable>,
    pub(crate) left_out: Vec<LeftOut>,
}

impl Material {
    pub(crate) fn load(corpus: &Corpus, bench: &Bench, plan: &Plan) -> Result<Self, Problem> {
        let recognisers =
            || plan.variants.iter().filter(|variant| variant.task == Task::Hear && variant.hears.is_none());
        let hears = recognisers().next().is_some();
        // Results that exist need no audio; where there is some, it tells how long the clip is.
        let recorded =
            |engine: &str| bench.engine(engine).is_ok_and(|e| matches!(e.transport, Transport::Recorded(_)));
        let all_recorded = recognisers().all(|variant| recorded(&variant.engine));
        let (mut usable, mut left_out, mut room) = (Vec::new(), Vec::new(), SAMPLES_HELD);
        for clip in corpus.clips.iter().filter(|clip| plan.selects(clip)) {
            let needed = hears && !(all_recorded && clip.audio.is_none());
            let sound = if needed { sound_of(corpus, clip, &mut room) } else { Ok(Sound::Absent) };
            match sound {
                Ok(sound) => usable.push(Heardable { clip: clip.clone(), sound }),
                Err(reason) => left_out.push(LeftOut { clip_id: clip.id.clone(), reason }),
            }
        }
        if usable.is_empty() {
            let problem =
                Problem::new(format!("the plan \"{}\" has no clip to run", plan.name), Place::file(&corpus.path));
            return Err(match left_out.first() {
                Some(first) => problem.remedy(format!(
                    "{} clips cannot be used; the first, \"{}\": {}",
                    left_out.len(),
                    first.clip_id,
                    first.reason
                )),
                None => problem.remedy("its select matches no clip; check its tags and values"),
            });
        }
        Ok(Self { usable, left_out })
    }
}

/// Samples kept decoded between trials, 512 MiB of them; what is beyond is decoded again for each trial.
const SAMPLES_HELD: usize = 128 << 20;

/// Decodes a clip's audio once, so that what cannot be used is known before the first trial.
fn sound_of(corpus: &Corpus, clip: &Clip, room: &mut usize) -> Result<Sound, String> {
    let path = audio_path(&corpus.folder, clip).ok_or("the clip names no audio")?;
    let source = Sound::decode(&path, clip.side)?;
    match room.checked_sub(source.audio.samples.len()) {
        Some(left) => {
            *room = left;
            Ok(Sound::Held(source))
        }
        None => Ok(Sound::OnDisk(path, clip.side)),
    }
}
