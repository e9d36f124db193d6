//! The score of a set of clips, built one clip at a time in memory that grows with the vocabulary, not with the clips.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::clip_score::Comparer;
use super::mistakes::MistakesBuilder;
use super::rates::share;
use super::slices::{Slice, Slices, Tally};
use super::{
    BestOf, BestOfBuilder, CharacterRates, ClipScore, ConfidenceBuilder, ConfidenceReport, Marks, MarksBuilder,
    Mistakes, TermReport, TermsBuilder, WeightedRate, WordRates, WordWeights,
};
use crate::align::{Edit, EditCounts};
use crate::measures::{ALL, Estimate, Gathered, HearingCounts, Measure, Sample, Trial, estimate, find};
use crate::stats::{Interval, UnitKind};
use crate::text::{Label, LabelPart, TextProfile};
use crate::timing::{Boundaries, BoundariesBuilder, Timing, TimingBuilder, word_offsets};
use crate::{Clip, Heard, Table, Task};

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
    /// by for speakers that were not recorded. Left out where every speaker has one clip, and where there are fewer than eight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_by_speaker: Option<Interval>,
    /// Speakers, where speakers have several clips each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speakers: Option<u64>,
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
    /// Every measure of hearing that the results have, by id, each with its interval over clips.
    pub measures: Measured,
}

/// Figures by the ids of their measures.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Measured(BTreeMap<String, Estimate>);

impl Measured {
    /// The figure of a measure.
    #[must_use]
    pub fn get(&self, id: &str) -> Option<&Estimate> {
        self.0.get(id)
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Notes a figure.
    pub fn insert(&mut self, measure: &Measure, estimate: Estimate) {
        self.0.insert(measure.id.to_owned(), estimate);
    }

    /// The figures with their measures, in the order of the table.
    pub fn iter(&self) -> impl Iterator<Item = (&'static Measure, &Estimate)> {
        ALL.iter().filter_map(|measure| Some((*measure, self.get(measure.id)?)))
    }
}

/// Every figure of a set.
pub(super) fn measured(gathered: &Gathered, set: usize) -> Measured {
    let mut measured = Measured::default();
    for measure in hearing() {
        if let Some(estimate) = gathered.estimate(measure, set) {
            measured.insert(measure, estimate);
        }
    }
    measured
}

/// The measures of hearing.
fn hearing() -> impl Iterator<Item = &'static Measure> {
    ALL.iter().copied().filter(|measure| measure.tasks.contains(&Task::Hear))
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

/// Error counts of each speaker's clips; clips without a speaker stand alone.
#[derive(Debug, Clone, Default)]
struct Speakers {
    speakers: BTreeMap<String, [u64; 3]>,
    /// Errors and words of clips without a speaker, with how many have the same.
    alone: Table<[u64; 2], u64>,
}

impl Speakers {
    fn add(&mut self, speaker: Option<&str>, words: EditCounts) {
        let (errors, reference) = (words.errors(), words.reference());
        let Some(speaker) = speaker else {
            *self.alone.entry([errors, reference]).or_default() += 1;
            return;
        };
        let counts = [1, errors, reference];
        match self.speakers.get_mut(speaker) {
            Some(sum) => sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum += count),
            None => drop(self.speakers.insert(speaker.to_owned(), counts)),
        }
    }

    fn merge(&mut self, other: Self) {
        for (counts, clips) in other.alone {
            *self.alone.entry(counts).or_default() += clips;
        }
        for (speaker, counts) in other.speakers {
            let sum = self.speakers.entry(speaker).or_default();
            sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum += count);
        }
    }

    /// Whole speakers are drawn (Field and Welsh, "Bootstrapping clustered data", 2007). None where none has several clips.
    fn estimate(&self) -> Option<Estimate> {
        if self.speakers.values().all(|counts| counts[0] == 1) {
            return None;
        }
        let mut sample = Sample::new(4, UnitKind::Group);
        let row = |errors: u64, words: u64| [words as f64 - errors as f64, errors as f64, 0.0, 0.0];
        let mut alone: Vec<([u64; 2], u64)> = self.alone.iter().map(|(counts, clips)| (*counts, *clips)).collect();
        alone.sort_unstable();
        for [_, errors, words] in self.speakers.values() {
            sample.add_alike(&row(*errors, *words), 1.0);
        }
        for ([errors, words], clips) in alone {
            sample.add_alike(&row(errors, words), clips as f64);
        }
        estimate(find("wer")?.estimator, &sample)
    }
}

/// Builds a [`Score`]. Builders of consecutive stretches of one set can be merged; the stretches, not the threads that
/// worked on them, decide the result.
#[derive(Debug, Clone)]
pub struct ScoreBuilder {
    text_profile: String,
    weights: Arc<WordWeights>,
    compared: Comparer,
    scored: Tally,
    all: Tally,
    slices: Slices,
    speakers: Speakers,
    gathered: Gathered,
    /// Sets of the clip at hand; kept for what it allocated.
    sets: Vec<usize>,
    clip_rates: (f64, u64),
    weighted: [f64; 2],
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

/// An answer of a clip: what comparing it gave, and the wall time it took, where that is known.
#[derive(Debug, Clone, PartialEq)]
pub struct Answered {
    /// What comparing gave.
    pub counts: HearingCounts,
    /// Wall time in milliseconds.
    pub took_ms: Option<f64>,
}

impl ScoreBuilder {
    /// An empty score under a text profile.
    #[must_use]
    pub fn new(text_profile: &str) -> Self {
        let mut gathered = Gathered::of(hearing());
        gathered.add_set();
        Self {
            text_profile: text_profile.to_owned(),
            weights: Arc::default(),
            compared: Comparer::default(),
            scored: Tally::default(),
            all: Tally::default(),
            slices: Slices::default(),
            speakers: Speakers::default(),
            gathered,
            sets: Vec::new(),
            clip_rates: (0.0, 0),
            weighted: [0.0; 2],
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

    /// Notes the must-hear terms of a clip. To be called for all clips before the first is heard, since a term is invented
    /// wherever it is heard.
    pub fn tell_terms(&mut self, profile: &TextProfile, terms: &[String]) {
        self.terms.tell(profile, terms);
    }

    /// Compares an answer with its label, and adds what went wrong in it. Its counts are to be added with the clip's others.
    pub fn hear(&mut self, profile: &TextProfile, clip: &Clip, label: &Label, heard: &Heard) -> HearingCounts {
        self.compared.compare(profile, label, &heard.text);
        let as_written = self.compared.count_as_written(label, &heard.text);
        self.as_written += as_written;
        let [punctuation, capitals] = match label.parts() {
            [LabelPart::Fixed(text)] => self.marks.add(text, &heard.text),
            _ => self.marks.add(&label.first_reading(), &heard.text),
        };
        self.mistakes.add(&clip.id, &self.compared.steps, &self.compared.vocabulary);
        self.boundaries.add(clip, heard);
        let terms = self.terms.add(profile, &clip.terms, label, &heard.text);
        self.best_of.add(profile, label, heard, self.compared.words);
        let weighted = self.weights.weigh(&self.compared);
        if let Some([said, wrong]) = weighted {
            self.weighted[0] += said;
            self.weighted[1] += wrong;
        }
        HearingCounts {
            as_written,
            weighted,
            terms: terms.map(|(counts, _)| counts),
            all_terms: terms.and_then(|(_, all)| all),
            punctuation,
            capitals,
            confidences: self.confidence.add(profile, heard, &self.compared),
            offsets: word_offsets(profile, clip, heard),
            ..self.compared()
        }
    }

    /// The counts of an empty text against a label: what a trial without an answer comes to.
    pub fn hear_nothing(&mut self, profile: &TextProfile, label: &Label) -> HearingCounts {
        self.compared.compare(profile, label, "");
        self.compared()
    }

    fn compared(&self) -> HearingCounts {
        let first = self.compared.steps.iter().find(|step| step.said.is_some());
        HearingCounts {
            words: self.compared.words,
            characters: self.compared.characters,
            first_word_wrong: first.map(|step| step.edit != Edit::Correct),
            ..HearingCounts::default()
        }
    }

    /// The last comparison word by word.
    #[must_use]
    pub fn compared_words(&self) -> ClipScore {
        self.compared.clip_score()
    }

    /// Adds a clip with its answers: one, or those of several repeats.
    pub fn add(&mut self, clip: &Clip, answers: &[Answered]) {
        let sum = |of: fn(&HearingCounts) -> EditCounts| answers.iter().map(|answer| of(&answer.counts)).sum();
        let (words, characters): (EditCounts, EditCounts) =
            (sum(|counts| counts.words), sum(|counts| counts.characters));
        self.scored.add(words, characters);
        self.all.add(words, characters);
        self.clips_with_errors += u64::from(words.errors() > 0);
        self.speakers.add(clip.speaker.as_deref(), words);
        if words.reference() > 0 {
            self.clip_rates.0 += words.errors() as f64 / words.reference() as f64;
            self.clip_rates.1 += 1;
        }
        let Some(first) = answers.first() else { return };
        let timed = first.counts.offsets.as_ref().map(|offsets| self.timing.add(&clip.id, offsets));
        let Self { slices, gathered, sets, .. } = self;
        sets.clear();
        sets.push(0);
        slices.add(clip, first.counts.words.reference(), [words, characters], timed, gathered, sets);
        let trials: Vec<Trial<'_>> = answers
            .iter()
            .map(|answer| Trial::heard(clip, crate::Outcome::Done, &answer.counts, answer.took_ms))
            .collect();
        gathered.add(&trials, sets);
    }

    /// Adds a clip without a result, compared with an empty text.
    pub fn add_missing(&mut self, profile: &TextProfile, clip: &Clip, label: &Label) {
        let counts = self.hear_nothing(profile, label);
        self.missing.push(clip.id.clone());
        self.all.add(counts.words, counts.characters);
        // No trial was made: that there is no answer is no outcome.
        self.gathered.add(&[Trial::heard(clip, crate::Outcome::Stopped, &counts, None)], &[0]);
    }

    /// Notes a result that belongs to no clip.
    pub fn add_unknown(&mut self, id: &str) {
        self.unknown.push(id.to_owned());
    }

    /// Adds what another builder gathered, told the same terms, from clips that come after this one's.
    pub fn merge(&mut self, later: Self) {
        self.scored.merge(&later.scored);
        self.all.merge(&later.all);
        let sets = self.slices.merge(&later.slices, self.timing.clips(), &mut self.gathered);
        self.gathered.merge(&later.gathered, &sets);
        self.speakers.merge(later.speakers);
        self.clip_rates.0 += later.clip_rates.0;
        self.clip_rates.1 += later.clip_rates.1;
        self.weighted.iter_mut().zip(later.weighted).for_each(|(mine, theirs)| *mine += theirs);
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
        let measures = measured(&self.gathered, 0);
        let missing_as_empty = (!self.missing.is_empty()).then(|| AllClips {
            clips: self.all.clips,
            words: WordRates::new(self.all.words, measures.get("wer_failures_as_empty")),
            characters: self.all.characters.into(),
        });
        let by_speaker = self.speakers.estimate();
        let calibration = measures.get("calibration_error").map(|estimate| estimate.value);
        let confidence = self.confidence.finish().map(|report| ConfidenceReport {
            calibration_error: calibration.unwrap_or(report.calibration_error_with_chance),
            ..report
        });
        let [said, wrong] = self.weighted;
        Score {
            clips: self.scored.clips,
            missing: self.missing,
            unknown: self.unknown,
            words: WordRates::new(self.scored.words, measures.get("wer")),
            characters: self.scored.characters.into(),
            wer_as_written: share(self.as_written.errors(), self.as_written.reference()),
            mean_clip_wer: (self.clip_rates.1 > 0).then(|| self.clip_rates.0 / self.clip_rates.1 as f64),
            clips_with_errors: self.clips_with_errors,
            ser: share(self.clips_with_errors, self.scored.clips),
            missing_as_empty,
            interval_by_speaker: by_speaker.and_then(|estimate| estimate.interval),
            speakers: by_speaker.map(|estimate| estimate.units),
            weighted: (said > 0.0).then(|| WeightedRate { wer: Some(wrong / said), said, wrong }),
            slices: self.slices.finish(&self.timing, &self.gathered),
            timing: self.timing.finish(measures.get("drift")),
            boundaries: self.boundaries.finish(),
            marks: self.marks.finish(),
            mistakes: self.mistakes.finish(&self.compared.vocabulary),
            terms: self.terms.finish(),
            confidence,
            best_of: self.best_of.finish(),
            text_profile: self.text_profile,
            measures,
        }
    }
}
