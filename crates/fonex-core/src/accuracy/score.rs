//! The score of a set of clips, built one clip at a time in memory that does not grow with the clips.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::rates::share;
use super::{CharacterRates, ClipScore, WordRates};
use crate::Clip;
use crate::align::EditCounts;
use crate::stats::RatioTally;
use crate::timing::{ClipOffsets, Timing, TimingBuilder};

/// What `fonex score` says; the object that `show`, `compare` and `export` build on. Absent measures are left out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Score {
    /// Clips scored.
    pub clips: u64,
    /// Ids of clips that have no result.
    pub missing: Vec<String>,
    /// Ids of results that belong to no clip.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<String>,
    /// Word rates over the clips scored.
    pub words: WordRates,
    /// Character rates over the clips scored.
    pub characters: CharacterRates,
    /// The mean of the clips' own error rates, over clips with words. Never to be taken for the WER.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mean_clip_wer: Option<f64>,
    /// Clips with at least one wrong word.
    pub clips_with_errors: u64,
    /// Share of clips with at least one wrong word; null without clips.
    pub ser: Option<f64>,
    /// The same rates with every missing result counted as an empty one; only where results are missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing_as_empty: Option<AllClips>,
    /// Rates by tag, speaker and language.
    pub slices: Vec<Slice>,
    /// Word times against labels, where both sides have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timing: Option<Timing>,
    /// Name of the text profile.
    pub text_profile: String,
}

/// Rates over all clips of the corpus, failures counted as empty results.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AllClips {
    /// Clips counted.
    pub clips: u64,
    /// Word rates.
    pub words: WordRates,
    /// Character rates.
    pub characters: CharacterRates,
}

/// The rates of the clips that share a value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Slice {
    /// What is shared: a tag's name, `speaker` or `lang`.
    pub by: String,
    /// The value shared.
    pub value: String,
    /// Clips scored in the slice.
    pub clips: u64,
    /// Word rates in the slice.
    pub words: WordRates,
}

#[derive(Debug, Clone, Default)]
struct Tally {
    clips: u64,
    words: EditCounts,
    characters: EditCounts,
    rates: RatioTally,
}

impl Tally {
    fn add(&mut self, score: &ClipScore) {
        self.clips += 1;
        self.words += score.words;
        self.characters += score.characters;
        self.rates.add(score.words.errors(), score.words.reference());
    }

    fn words(&self, seed: u64) -> WordRates {
        WordRates::new(self.words, self.rates.interval(seed))
    }
}

/// Builds a [`Score`].
#[derive(Debug, Clone)]
pub struct ScoreBuilder {
    text_profile: String,
    seed: u64,
    scored: Tally,
    all: Tally,
    slices: BTreeMap<(String, String), Tally>,
    missing: Vec<String>,
    unknown: Vec<String>,
    clips_with_errors: u64,
    sum_of_clip_rates: f64,
    clips_with_words: u64,
    timing: TimingBuilder,
}

impl ScoreBuilder {
    /// An empty score under a text profile; `seed` drives the bootstrap.
    #[must_use]
    pub fn new(text_profile: &str, seed: u64) -> Self {
        Self {
            text_profile: text_profile.to_owned(),
            seed,
            scored: Tally::default(),
            all: Tally::default(),
            slices: BTreeMap::new(),
            missing: Vec::new(),
            unknown: Vec::new(),
            clips_with_errors: 0,
            sum_of_clip_rates: 0.0,
            clips_with_words: 0,
            timing: TimingBuilder::default(),
        }
    }

    /// Adds a clip with its result.
    pub fn add(&mut self, clip: &Clip, score: &ClipScore, offsets: Option<&ClipOffsets>) {
        self.scored.add(score);
        self.all.add(score);
        self.clips_with_errors += u64::from(score.has_errors());
        if let Some(rate) = share(score.words.errors(), score.words.reference()) {
            self.sum_of_clip_rates += rate;
            self.clips_with_words += 1;
        }
        for key in slice_keys(clip) {
            self.slices.entry(key).or_default().add(score);
        }
        if let Some(offsets) = offsets {
            self.timing.add(offsets);
        }
    }

    /// Adds a clip without a result; `as_empty` is its comparison with an empty text.
    pub fn add_missing(&mut self, clip: &Clip, as_empty: &ClipScore) {
        self.missing.push(clip.id.clone());
        self.all.add(as_empty);
    }

    /// Notes a result that belongs to no clip.
    pub fn add_unknown(&mut self, id: &str) {
        self.unknown.push(id.to_owned());
    }

    /// The score of all that was added.
    #[must_use]
    pub fn finish(self) -> Score {
        let seed = self.seed;
        let missing_as_empty = (!self.missing.is_empty()).then(|| AllClips {
            clips: self.all.clips,
            words: self.all.words(seed),
            characters: self.all.characters.into(),
        });
        let slices = self
            .slices
            .into_iter()
            .map(|((by, value), tally)| Slice { by, value, clips: tally.clips, words: tally.words(seed) })
            .collect();
        Score {
            clips: self.scored.clips,
            missing: self.missing,
            unknown: self.unknown,
            words: self.scored.words(seed),
            characters: self.scored.characters.into(),
            mean_clip_wer: (self.clips_with_words > 0).then(|| self.sum_of_clip_rates / self.clips_with_words as f64),
            clips_with_errors: self.clips_with_errors,
            ser: share(self.clips_with_errors, self.scored.clips),
            missing_as_empty,
            slices,
            timing: self.timing.finish(seed),
            text_profile: self.text_profile,
        }
    }
}

/// Every tag of a clip, its speaker and its language, as (what, value).
fn slice_keys(clip: &Clip) -> impl Iterator<Item = (String, String)> + '_ {
    let named = [("speaker", &clip.speaker), ("lang", &clip.lang)];
    let named = named.into_iter().filter_map(|(by, value)| Some((by.to_owned(), value.clone()?)));
    clip.tags.iter().map(|(by, value)| (by.clone(), value.clone())).chain(named)
}
