//! Which labelled clip a sound comes from, told by its samples alone.
//!
//! Windows of samples whose rolling hash ends in zeros are anchors, in the labelled clips and in what is heard; anchors
//! that both have say which clip it is and where in it the sound begins. A sound must have been kept bit for bit at 16
//! bits and 16 kHz; one that was not is known only by the clip id that a request may carry.

use std::collections::HashMap;

use fonex_core::Clip;
use fonex_core::audio::{Audio, resample};

const WINDOW: usize = 48;
const ANCHOR_BITS: u64 = 0x3f;
const BASE: u64 = 0x9e37_79b9_7f4a_7c15;
/// The rate at which sounds are compared.
pub(super) const RATE_HZ: u32 = 16_000;

/// The labelled clips and their anchors.
pub(super) struct Ear {
    clips: Vec<(Clip, Audio)>,
    anchors: HashMap<u64, (u32, u32)>,
    by_id: HashMap<String, usize>,
}

/// Which stretch of which clip was heard.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Recognised {
    pub(super) clip: usize,
    pub(super) start_s: f64,
}

impl Ear {
    pub(super) fn new(clips: &[(Clip, Audio)]) -> Self {
        let clips: Vec<(Clip, Audio)> = clips
            .iter()
            .map(|(clip, audio)| (clip.clone(), resample(audio, RATE_HZ).unwrap_or_else(|_| audio.clone())))
            .collect();
        let mut anchors = HashMap::new();
        for ((_, audio), clip) in clips.iter().zip(0_u32..) {
            for (hash, at) in anchors_of(&audio.samples) {
                anchors.entry(hash).or_insert((clip, at as u32));
            }
        }
        let by_id = clips.iter().enumerate().map(|(i, (clip, _))| (clip.id.clone(), i)).collect();
        Self { clips, anchors, by_id }
    }

    /// Recognises a sound of 16 kHz: the clip and place that most of its first anchors agree on.
    pub(super) fn recognise(&self, samples: &[f32]) -> Option<Recognised> {
        const VOTES: usize = 200;
        let mut votes: HashMap<(u32, i64), u32> = HashMap::new();
        for (hash, at) in anchors_of(samples).take(VOTES) {
            if let Some((clip, place)) = self.anchors.get(&hash) {
                *votes.entry((*clip, i64::from(*place) - at as i64)).or_default() += 1;
            }
        }
        let ((clip, start), _) =
            votes.into_iter().max_by_key(|((clip, start), n)| (*n, -i64::from(*clip), -*start))?;
        Some(Recognised { clip: clip as usize, start_s: start.max(0) as f64 / f64::from(RATE_HZ) })
    }

    pub(super) fn named(&self, id: &str) -> Option<Recognised> {
        self.by_id.get(id).map(|clip| Recognised { clip: *clip, start_s: 0.0 })
    }

    /// The label of a stretch as a clip of its own. Words belong to it when their middle does.
    pub(super) fn stretch(&self, found: Recognised, length_s: f64) -> Clip {
        let (clip, audio) = &self.clips[found.clip];
        let whole_s = audio.duration_s();
        if found.start_s == 0.0 && length_s >= whole_s - 0.05 {
            return clip.clone();
        }
        let written: Vec<&str> = clip.text.split_whitespace().collect();
        let end_s = found.start_s + length_s;
        let times: Vec<(f64, f64)> = if clip.words.len() == written.len() {
            clip.words.iter().map(|word| (word.start, word.end)).collect()
        } else {
            let each = whole_s / written.len().max(1) as f64;
            (0..written.len()).map(|i| (each * i as f64, each * (i + 1) as f64)).collect()
        };
        let inside = |(start, end): &(f64, f64)| (found.start_s..end_s).contains(&((start + end) / 2.0));
        let kept: Vec<usize> = (0..written.len()).filter(|i| inside(&times[*i])).collect();
        let text = kept.iter().map(|i| written[*i]).collect::<Vec<_>>().join(" ");
        let words = kept.iter().filter_map(|i| clip.words.get(*i)).map(|word| fonex_core::TimedWord {
            start: word.start - found.start_s,
            end: word.end - found.start_s,
            ..word.clone()
        });
        let id = format!("{}@{:.3}", clip.id, found.start_s);
        Clip { id, text, words: words.collect(), ..clip.clone() }
    }
}

/// Anchors of a sound in order: hash and place. Flat windows are none: silence is alike everywhere.
fn anchors_of(samples: &[f32]) -> impl Iterator<Item = (u64, usize)> + '_ {
    let value = |s: f32| (s * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i64 as u64;
    let leading = (0..WINDOW).fold(1_u64, |power, _| power.wrapping_mul(BASE));
    let mut hash = 0_u64;
    samples.iter().enumerate().filter_map(move |(i, sample)| {
        hash = hash.wrapping_mul(BASE).wrapping_add(value(*sample).wrapping_add(1));
        if i >= WINDOW {
            hash = hash.wrapping_sub(value(samples[i - WINDOW]).wrapping_add(1).wrapping_mul(leading));
        }
        let at = (i + 1).checked_sub(WINDOW)?;
        // The high bits of the mixed hash are as good as random; the low ones follow the last sample.
        let chosen = (hash ^ (hash >> 32)).wrapping_mul(BASE) >> 58 == ANCHOR_BITS;
        let loud = chosen && samples[at..=i].iter().any(|s| s.abs() > 0.004);
        loud.then_some((hash, at))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use fonex_core::TimedWord;

    fn sound(seed: u32) -> Audio {
        let mut state = seed;
        let sample = |_| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            f32::from((state >> 16) as i16) / 32_768.0
        };
        Audio { rate_hz: RATE_HZ, samples: (0..32_000).map(sample).collect() }
    }

    #[test]
    fn a_stretch_is_known_by_its_samples() {
        let word = |text: &str, start| TimedWord { text: text.into(), start, end: start + 0.4 };
        let clip = Clip { id: "b".into(), text: "Hold at six.".into(), ..Clip::default() };
        let clip = Clip { words: vec![word("Hold", 0.1), word("at", 0.8), word("six", 1.5)], ..clip };
        let ear = Ear::new(&[(Clip { id: "a".into(), ..Clip::default() }, sound(1)), (clip, sound(2))]);
        let found = ear.recognise(&sound(2).samples[9_600..]).unwrap();
        assert_eq!((found.clip, found.start_s), (1, 0.6));
        let part = ear.stretch(found, 0.8);
        assert_eq!((part.text.as_str(), part.words.len()), ("at", 1));
        assert!((part.words[0].start - 0.2).abs() < 1e-9);
        assert_eq!(ear.stretch(ear.named("b").unwrap(), 2.0).text, "Hold at six.");
        assert!(ear.recognise(&sound(3).samples).is_none() && ear.recognise(&[0.0; 2_000]).is_none());
    }
}
