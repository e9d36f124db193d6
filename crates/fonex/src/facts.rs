//! What is known of a corpus's audio, found in parallel.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::Path;
use std::sync::LazyLock;

use fonex_core::audio::{Audio, AudioMeasures, Channels, active_level_db, measure, voiced_s};
use fonex_core::material::{AudioFacts, Fields};
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Side, in_parallel};
use fonex_formats::audio::read_side;
use fonex_formats::{Corpus, audio_path};

use crate::output::clip_bar;

/// Calls `work` for every item on all cores, with progress; results stand in the order of the items.
pub fn with_progress<T: Sync, R: Send>(what: &str, items: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let bar = clip_bar(what, items.len() as u64);
    let results = in_parallel(items, |item| {
        let result = work(item);
        bar.inc(1);
        result
    });
    bar.finish_and_clear();
    results
}

/// The band of a clip's signal-to-noise ratio, as a slice; none without audio that can be measured.
pub fn snr_band(folder: &Path, clip: &Clip) -> Option<String> {
    let decoded = read_side(&audio_path(folder, clip)?, clip.side).ok()?;
    let snr_db = measure(&decoded.audio).snr_db?;
    Some(match snr_db {
        ..10.0 => "to 10 dB".to_owned(),
        10.0..20.0 => "10 to 20 dB".to_owned(),
        20.0..30.0 => "20 to 30 dB".to_owned(),
        _ => "from 30 dB".to_owned(),
    })
}

/// The facts of each clip's audio: none for a clip without audio, the reason where it cannot be used.
pub fn audio_facts(corpus: &Corpus) -> Vec<Option<Result<AudioFacts, String>>> {
    with_progress("reading audio", &corpus.clips, |clip| {
        audio_path(&corpus.folder, clip).map(|path| facts_of(&path, clip.side))
    })
}

fn facts_of(path: &Path, side: Option<Side>) -> Result<AudioFacts, String> {
    let decoded = read_side(path, side).map_err(|error| format!("{}: {error}", path.display()))?;
    let measures = measure(&decoded.audio);
    let clipped_share = decoded.clipped_share(measures.clipped_share);
    Ok(AudioFacts {
        measures: AudioMeasures { clipped_share, ..measures },
        priming_s: decoded.priming_s,
        cancelled_db: decoded.apart.filter(Channels::are_opposite).and_then(|apart| apart.lost_in_mix_db),
        active_level_dbfs: active_level_db(&decoded.audio),
        voiced_s: voiced_s(&decoded.audio),
        rate_hz: decoded.audio.rate_hz,
        bits: decoded.bits,
        channels: decoded.channels,
        container: decoded.kind.split('/').next().unwrap_or_default().to_owned(),
        ending: path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default(),
        defect: decoded.defect,
        checksum: samples_checksum(&decoded.audio),
    })
}

/// A hash that identifies a sound within this process.
fn samples_checksum(audio: &Audio) -> String {
    let mut hasher = DefaultHasher::new();
    audio.rate_hz.hash(&mut hasher);
    for pair in audio.samples.chunks(2) {
        let bits = |at: usize| u64::from(pair.get(at).map_or(0, |sample| sample.to_bits()));
        hasher.write_u64(bits(0) << 32 | bits(1));
    }
    format!("{:016x}", hasher.finish())
}

/// A clip with its facts, as conditions look at it.
pub struct ClipFields<'c> {
    /// The clip.
    pub clip: &'c Clip,
    /// What is known of its audio.
    pub facts: Option<&'c AudioFacts>,
}

/// Fields that need the audio.
pub const AUDIO_FIELDS: [&str; 5] = ["duration", "snr", "level", "rate", "words_per_s"];
/// Fields every clip has; any other name is a tag.
pub const CLIP_FIELDS: [&str; 7] = ["id", "text", "lang", "speaker", "words", "terms", "audio"];

impl ClipFields<'_> {
    fn words(&self) -> usize {
        static NEUTRAL: LazyLock<TextProfile> =
            LazyLock::new(|| TextProfile::shipped("neutral").expect("neutral is shipped"));
        // As the checks count them: signs alone are no word.
        Label::parse(&self.clip.text).map_or(0, |label| NEUTRAL.tokens(&label.first_reading()).len())
    }
}

impl Fields for ClipFields<'_> {
    fn text(&self, field: &str) -> Option<String> {
        match field {
            "id" => Some(self.clip.id.clone()),
            "text" => Some(self.clip.text.clone()),
            "lang" => self.clip.lang.clone(),
            "speaker" => self.clip.speaker.clone(),
            "audio" => self.clip.audio.clone(),
            "words" | "terms" => self.number(field).map(|number| number.to_string()),
            _ if AUDIO_FIELDS.contains(&field) => self.number(field).map(|number| number.to_string()),
            tag => self.clip.tags.get(tag).cloned(),
        }
    }

    fn number(&self, field: &str) -> Option<f64> {
        match field {
            "words" => Some(self.words() as f64),
            "terms" => Some(self.clip.terms.len() as f64),
            "duration" => self.facts.map(|facts| facts.measures.duration_s),
            "snr" => self.facts?.measures.snr_db,
            "level" => self.facts?.active_level_dbfs,
            "rate" => self.facts.map(|facts| f64::from(facts.rate_hz)),
            "words_per_s" => self.facts.map(|facts| self.words() as f64 / facts.measures.duration_s),
            tag => self.clip.tags.get(tag)?.parse().ok(),
        }
    }
}
