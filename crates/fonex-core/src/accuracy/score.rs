//! The score of a set of clips, built one clip at a time in memory that grows with the vocabulary, not with the clips.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::clip_score::Comparer;
use super::mistakes::MistakesBuilder;
use super::rates::share;
use super::slices::{Slice, Slices, Tally};
use super::weights::WeightedTally;
use super::{
    BestOf, BestOfBuilder, CharacterRates, ClipScore, ConfidenceBuilder, ConfidenceReport, Marks, MarksBuilder,
    Mistakes, TermReport, TermsBuilder, WeightedRate, WordRates, WordWeights,
};
use crate::align::EditCounts;
use crate::stats::{Interval, RatioTally};
use crate::text::{Label, LabelPart, TextProfile};
use crate::timing::{Boundaries, BoundariesBuilder, ClipOffsets, Timing, TimingBuilder};
use crate::{Clip, Heard, Table};

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
    /// The WER of the texts as they are written, without any profile; how much the profile forgives is the difference.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wer_as_written: Option<f64>,
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
    /// The interval of the WER over speakers instead of clips, where speakers have several clips each: it is the one to go
    /// by for speakers that were not recorded. Left out where every speaker has one clip, or there is only one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_by_speaker: Option<Interval>,
    /// The rate with the words weighted by a project's list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weighted: Option<WeightedRate>,
    /// Rates by tag, speaker, language and length; two crossed where that was asked for.
    pub slices: Vec<Slice>,
    /// Word times against labels, where both sides have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timing: Option<Timing>,
    /// Where recordings were cut into segments, where both sides have some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boundaries: Option<Boundaries>,
    /// Punctuation and capitals, where both sides write them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub marks: Option<Marks>,
    /// What went wrong; left out where nothing did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mistakes: Option<Mistakes>,
    /// How the must-hear terms were heard, where clips list some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub terms: Option<TermReport>,
    /// Confidences against what was right, where results have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<ConfidenceReport>,
    /// What further readings were worth, where results have them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_of: Option<BestOf>,
    /// Name of the text profile.
    pub text_profile: String,
}

impl Score {
    /// The slice of the clips that share what another slice's do.
    #[must_use]
    pub fn same_slice(&self, other: &Slice) -> Option<&Slice> {
        self.slices.iter().find(|slice| (&slice.by, &slice.value) == (&other.by, &other.value))
    }
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

/// Clips and error counts of each speaker; clips without one stand alone.
#[derive(Debug, Clone, Default)]
struct Speakers {
    speakers: Table<String, [u64; 3]>,
    alone: RatioTally,
}

impl Speakers {
    fn add(&mut self, speaker: Option<&str>, words: EditCounts) {
        let (errors, reference) = (words.errors(), words.reference());
        let Some(speaker) = speaker else { return self.alone.add(errors, reference) };
        let counts = [1, errors, reference];
        match self.speakers.get_mut(speaker) {
            Some(sum) => sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum += count),
            None => drop(self.speakers.insert(speaker.to_owned(), counts)),
        }
    }

    fn merge(&mut self, other: Self) {
        self.alone.merge(&other.alone);
        for (speaker, counts) in other.speakers {
            let sum = self.speakers.entry(speaker).or_default();
            sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum += count);
        }
    }

    /// The bootstrap by cluster: whole speakers are drawn (Field and Welsh, "Bootstrapping clustered data", 2007).
    fn interval(&self, seed: u64) -> Option<Interval> {
        if self.speakers.len() < 2 || self.speakers.values().all(|counts| counts[0] == 1) {
            return None;
        }
        let mut clusters = self.alone.clone();
        self.speakers.values().for_each(|[_, errors, words]| clusters.add(*errors, *words));
        clusters.interval(seed)
    }
}

/// Builds a [`Score`]. Builders of consecutive stretches of one set can be merged; the stretches, not the threads that
/// worked on them, decide the result.
#[derive(Debug, Clone)]
pub struct ScoreBuilder {
    text_profile: String,
    seed: u64,
    weights: Arc<WordWeights>,
    compared: Comparer,
    scored: Tally,
    all: Tally,
    slices: Slices,
    speakers: Speakers,
    weighted: WeightedTally,
    missing: Vec<String>,
    unknown: Vec<String>,
    clips_with_errors: u64,
    timing: TimingBuilder,
    boundaries: BoundariesBuilder,
    as_written: EditCounts,
    marks: MarksBuilder,
    mistakes: MistakesBuilder,
    terms: TermsBuilder,
    confidence: ConfidenceBuilder,
    best_of: BestOfBuilder,
}

impl ScoreBuilder {
    /// An empty score under a text profile; `seed` drives the bootstrap.
    #[must_use]
    pub fn new(text_profile: &str, seed: u64) -> Self {
        Self {
            text_profile: text_profile.to_owned(),
            seed,
            weights: Arc::default(),
            compared: Comparer::default(),
            scored: Tally::default(),
            all: Tally::default(),
            slices: Slices::default(),
            speakers: Speakers::default(),
            weighted: WeightedTally::default(),
            missing: Vec::new(),
            unknown: Vec::new(),
            clips_with_errors: 0,
            timing: TimingBuilder::default(),
            boundaries: BoundariesBuilder::default(),
            as_written: EditCounts::default(),
            marks: MarksBuilder::default(),
            mistakes: MistakesBuilder::default(),
            terms: TermsBuilder::default(),
            confidence: ConfidenceBuilder::default(),
            best_of: BestOfBuilder::default(),
        }
    }

    /// The same with words weighted.
    #[must_use]
    pub fn with_weights(self, weights: WordWeights) -> Self {
        Self { weights: Arc::new(weights), ..self }
    }

    /// The same with two slices crossed, such as a tag and a speaker.
    #[must_use]
    pub fn crossing(mut self, one: &str, other: &str) -> Self {
        self.slices.cross(one, other);
        self
    }

    /// Compares a heard text with the label; what follows for the same clip goes by it. Gives the counts of words and
    /// characters.
    pub fn compare(&mut self, profile: &TextProfile, label: &Label, heard: &str) -> (EditCounts, EditCounts) {
        self.compared.compare(profile, label, heard);
        (self.compared.words, self.compared.characters)
    }

    /// The last comparison word by word.
    #[must_use]
    pub fn compared(&self) -> ClipScore {
        self.compared.clip_score()
    }

    /// Adds a clip by its counts, which may be those of several repeats; its length is that of the last comparison.
    pub fn add(&mut self, clip: &Clip, words: EditCounts, characters: EditCounts, offsets: Option<&ClipOffsets>) {
        self.scored.add(words, characters);
        self.all.add(words, characters);
        self.clips_with_errors += u64::from(words.errors() > 0);
        self.speakers.add(clip.speaker.as_deref(), words);
        // The length is not that of the counts, which may be those of several repeats.
        let timed = offsets.map(|offsets| self.timing.add(&clip.id, offsets));
        self.slices.add(clip, self.compared.words.reference(), words, characters, timed);
    }

    /// Notes the must-hear terms of a clip. To be called for all clips before the first is added in depth, since a term is
    /// invented wherever it is heard.
    pub fn tell_terms(&mut self, profile: &TextProfile, terms: &[String]) {
        self.terms.tell(profile, terms);
    }

    /// Adds what went wrong in the clip compared last, its terms, confidences and further readings.
    pub fn add_in_depth(&mut self, profile: &TextProfile, clip: &Clip, label: &Label, heard: &Heard) {
        self.as_written += self.compared.count_as_written(label, &heard.text);
        match label.parts() {
            [LabelPart::Fixed(text)] => self.marks.add(text, &heard.text),
            _ => self.marks.add(&label.first_reading(), &heard.text),
        }
        self.mistakes.add(&clip.id, &self.compared.steps, &self.compared.vocabulary);
        self.weighted.add(&self.weights, &self.compared);
        self.boundaries.add(clip, heard);
        self.terms.add(profile, &clip.terms, label, &heard.text);
        self.confidence.add(profile, heard, &self.compared);
        self.best_of.add(profile, label, heard, self.compared.words);
    }

    /// Adds a clip without a result, compared with an empty text.
    pub fn add_missing(&mut self, profile: &TextProfile, clip: &Clip, label: &Label) {
        let (words, characters) = self.compare(profile, label, "");
        self.missing.push(clip.id.clone());
        self.all.add(words, characters);
    }

    /// Notes a result that belongs to no clip.
    pub fn add_unknown(&mut self, id: &str) {
        self.unknown.push(id.to_owned());
    }

    /// Adds what another builder gathered, told the same terms, from clips that come after this one's.
    pub fn merge(&mut self, later: Self) {
        self.scored.merge(&later.scored);
        self.all.merge(&later.all);
        self.slices.merge(&later.slices, self.timing.clips());
        self.speakers.merge(later.speakers);
        self.weighted.merge(later.weighted);
        self.missing.extend(later.missing);
        self.unknown.extend(later.unknown);
        self.clips_with_errors += later.clips_with_errors;
        self.timing.merge(later.timing);
        self.boundaries.merge(&later.boundaries);
        self.as_written += later.as_written;
        self.marks.merge(&later.marks);
        let here = self.compared.vocabulary.take_in(&later.compared.vocabulary);
        self.mistakes.merge(later.mistakes, &here);
        self.terms.merge(&later.terms);
        self.confidence.merge(&later.confidence);
        self.best_of.merge(&later.best_of);
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
        Score {
            clips: self.scored.clips,
            missing: self.missing,
            unknown: self.unknown,
            words: self.scored.words(seed),
            characters: self.scored.characters.into(),
            wer_as_written: share(self.as_written.errors(), self.as_written.reference()),
            mean_clip_wer: self.scored.rates.mean_of_ratios(),
            clips_with_errors: self.clips_with_errors,
            ser: share(self.clips_with_errors, self.scored.clips),
            missing_as_empty,
            interval_by_speaker: self.speakers.interval(seed),
            weighted: self.weights.rate(self.scored.words, &self.weighted),
            slices: self.slices.finish(seed, &self.timing),
            timing: self.timing.finish(seed),
            boundaries: self.boundaries.finish(),
            marks: self.marks.finish(),
            mistakes: self.mistakes.finish(&self.compared.vocabulary),
            terms: self.terms.finish(),
            confidence: self.confidence.finish(),
            best_of: self.best_of.finish(),
            text_profile: self.text_profile,
        }
    }
}
