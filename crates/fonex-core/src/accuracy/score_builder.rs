//! The score of a set of clips, built one clip at a time in memory that grows with the vocabulary, not with the clips.

use std::collections::BTreeMap;
use std::mem::take;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::clip_score::{Comparer, NumberedStep};
use super::mistakes::MistakesBuilder;
use super::rates::share;
use super::score::{AllClips, Score, hearing, measured};
use super::slices::{Slices, Tally};
use super::speakers::Speakers;
use super::{
    BestOfBuilder, ClipScore, ConfidenceBuilder, ConfidenceReport, MarksBuilder, MistakeKind, TermsBuilder,
    TermsState, WeightedRate, WordRates, WordWeights,
};
use crate::align::{Edit, EditCounts};
use crate::measures::{Gathered, HearingCounts, Trial, find};
use crate::text::{Label, LabelPart, Numbering, TextProfile};
use crate::timing::{BoundariesBuilder, TimingBuilder, word_offsets};
use crate::{Clip, Heard};

/// Builds a [`Score`]. Builders of consecutive stretches of one set can be merged; the stretches, not the threads that
/// worked on them, decide the result.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ScoreBuilder {
    text_profile: String,
    weights: Arc<WordWeights>,
    /// In a file, its vocabulary.
    #[serde(with = "super::clip_score::only_words")]
    compared: Comparer,
    /// What its words are numbered in the builder that took it in last.
    #[serde(skip)]
    numbered: Numbering,
    scored: Tally,
    all: Tally,
    /// Clips whose labels are disputed.
    disputed: Tally,
    slices: Slices,
    speakers: Speakers,
    gathered: Gathered,
    /// Wrong words and clips, by the words of the clip: the mean of their rates does not depend on an order.
    clip_rates: BTreeMap<u64, [u64; 2]>,
    missing: Vec<String>,
    /// Repeats without an answer of clips that have others.
    missing_repeats: u64,
    unknown: Vec<String>,
    clips_in_pieces: u64,
    clips_with_errors: u64,
    timing: TimingBuilder,
    boundaries: BoundariesBuilder,
    as_written: EditCounts,
    marks: MarksBuilder,
    mistakes: MistakesBuilder,
    /// Written apart: what is looked for is made of the terms.
    #[serde(skip)]
    terms: TermsBuilder,
    confidence: ConfidenceBuilder,
    best_of: BestOfBuilder,
}

/// Words that a builder keeps once it was taken in by another.
const WORDS_KEPT: usize = 1 << 16;
/// Slices and groups of clips that it keeps; each is gone through whenever it is taken in.
const SLICES_KEPT: usize = 1 << 12;

/// An answer of a clip: what comparing it gave, and the wall time it took, where that is known.
#[derive(Debug, Clone, PartialEq)]
pub struct Answered {
    /// What comparing gave.
    pub counts: HearingCounts,
    /// Wall time in milliseconds.
    pub took_ms: Option<f64>,
}

impl Answered {
    fn trial<'t>(&'t self, clip: &'t Clip) -> Trial<'t> {
        Trial::heard(clip, crate::Outcome::Done, &self.counts, self.took_ms)
    }
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
            numbered: Numbering::default(),
            scored: Tally::default(),
            all: Tally::default(),
            disputed: Tally::default(),
            slices: Slices::default(),
            speakers: Speakers::default(),
            gathered,
            clip_rates: BTreeMap::new(),
            missing: Vec::new(),
            missing_repeats: 0,
            unknown: Vec::new(),
            clips_in_pieces: 0,
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
        let profile = &*profile.in_language(clip.lang.as_deref());
        self.compared.compare(profile, label, &heard.text);
        let as_written = self.compared.count_as_written(label, &heard.text);
        self.as_written += as_written;
        let [punctuation, capitals] = match label.parts() {
            [LabelPart::Fixed(text)] => self.marks.add_compared(text, &heard.text, &self.compared),
            _ => self.marks.add(&label.first_reading(), &heard.text),
        };
        self.mistakes.add(&clip.id, &self.compared.steps, &self.compared.vocabulary);
        self.boundaries.add(clip, heard);
        let terms = self.terms.add(profile, &clip.terms, label, &heard.text);
        self.best_of.add(profile, label, heard, self.compared.words);
        let weighted = self.weights.weigh(&self.compared);
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
        let Comparer { steps, words, characters, in_pieces, .. } = &self.compared;
        let mut said = steps.iter().filter(|step| step.said.is_some()).map(|step| step.edit != Edit::Correct);
        let first_word_wrong = said.next();
        let after = || steps.iter().rev().take_while(|step| step.said.is_none()).count() as u64;
        HearingCounts {
            words: *words,
            characters: *characters,
            in_pieces: *in_pieces,
            longest_gap: if words.deleted > 0 { longest_gap(steps) } else { 0 },
            words_after: if words.inserted > 0 { after() } else { 0 },
            first_word_wrong,
            last_word_wrong: said.next_back().or(first_word_wrong),
            ..HearingCounts::default()
        }
    }

    /// The last comparison word by word.
    #[must_use]
    pub fn compared_words(&self) -> ClipScore {
        self.compared.clip_score()
    }

    /// The kind of each step of the last comparison, none for a word heard right; nothing where all of it was.
    #[must_use]
    pub fn compared_kinds(&self) -> &[Option<MistakeKind>] {
        if self.compared.words.errors() == 0 { &[] } else { self.mistakes.of_last() }
    }

    /// Adds a clip with its answers: one, or those of several repeats.
    pub fn add(&mut self, clip: &Clip, answers: &[Answered]) {
        let sum = |of: fn(&HearingCounts) -> EditCounts| answers.iter().map(|answer| of(&answer.counts)).sum();
        let (words, characters): (EditCounts, EditCounts) =
            (sum(|counts| counts.words), sum(|counts| counts.characters));
        self.scored.add(words, characters);
        self.all.add(words, characters);
        self.clips_in_pieces += u64::from(answers.iter().any(|answer| answer.counts.in_pieces));
        self.clips_with_errors += u64::from(words.errors() > 0);
        self.speakers.add(clip.speaker.as_deref(), words);
        if words.reference() > 0 {
            let [wrong, clips] = self.clip_rates.entry(words.reference()).or_default();
            *wrong += words.errors();
            *clips += 1;
        }
        let Some(first) = answers.first() else { return };
        let timed = first.counts.offsets.as_ref().map(|offsets| self.timing.add(&clip.id, offsets));
        let Self { slices, gathered, .. } = self;
        let group = slices.add(clip, first.counts.words.reference(), [words, characters], timed, gathered);
        if let [only] = answers {
            gathered.add(&[only.trial(clip)], group);
        } else {
            gathered.add(&answers.iter().map(|answer| answer.trial(clip)).collect::<Vec<_>>(), group);
        }
    }

    /// Counts a clip apart whose label is disputed; one without a result is left out.
    pub fn add_disputed(&mut self, profile: &TextProfile, clip: &Clip, label: &Label, heard: Option<&Heard>) {
        let Some(heard) = heard else { return };
        self.compared.compare(&profile.in_language(clip.lang.as_deref()), label, &heard.text);
        self.disputed.add(self.compared.words, self.compared.characters);
    }

    /// Adds a clip without a result, compared with an empty text.
    pub fn add_missing(&mut self, profile: &TextProfile, clip: &Clip, label: &Label) {
        let counts = self.hear_nothing(profile, label);
        self.missing.push(clip.id.clone());
        self.all.add(counts.words, counts.characters);
        // No trial was made: that there is no answer is no outcome.
        let of_all = self.gathered.group(&[0]);
        self.gathered.add(&[Trial::heard(clip, crate::Outcome::Stopped, &counts, None)], of_all);
    }

    /// Adds repeats without an answer of a clip that has others: each counts as an empty result, and the clip once.
    pub fn add_failed_repeats(&mut self, profile: &TextProfile, label: &Label, repeats: u64) {
        let counts = self.hear_nothing(profile, label);
        self.missing_repeats += repeats;
        for _ in 0..repeats {
            self.all.words += counts.words;
            self.all.characters += counts.characters;
        }
    }

    /// Notes a result that belongs to no clip.
    pub fn add_unknown(&mut self, id: &str) {
        self.unknown.push(id.to_owned());
    }

    /// Takes in what another builder gathered, told the same terms, from clips that come after this one's. The other is empty
    /// then; it keeps the words and slices it knows, unless they are very many, and its room, which serve it for what it is given next.
    pub fn take_in(&mut self, later: &mut Self) {
        self.scored.merge(&take(&mut later.scored));
        self.all.merge(&take(&mut later.all));
        self.disputed.merge(&take(&mut later.disputed));
        let sets = self.slices.take_in(&mut later.slices, self.timing.clips(), &mut self.gathered);
        self.gathered.take_in(&mut later.gathered, &sets);
        self.speakers.merge(take(&mut later.speakers));
        for (words, theirs) in take(&mut later.clip_rates) {
            let mine = self.clip_rates.entry(words).or_default();
            *mine = [mine[0] + theirs[0], mine[1] + theirs[1]];
        }
        self.missing.append(&mut later.missing);
        self.missing_repeats += take(&mut later.missing_repeats);
        self.unknown.append(&mut later.unknown);
        self.clips_in_pieces += take(&mut later.clips_in_pieces);
        self.clips_with_errors += take(&mut later.clips_with_errors);
        self.timing.merge(take(&mut later.timing));
        self.boundaries.merge(&take(&mut later.boundaries));
        self.as_written += take(&mut later.as_written);
        self.marks.merge(&take(&mut later.marks));
        let number = later.numbered.of(&mut self.compared.vocabulary, &later.compared.vocabulary);
        self.mistakes.take_in(&mut later.mistakes, number);
        self.terms.take_in(&mut later.terms);
        self.confidence.merge(&take(&mut later.confidence));
        self.best_of.merge(&take(&mut later.best_of));
        if later.compared.vocabulary.len() > WORDS_KEPT {
            later.compared = Comparer::default();
            later.numbered = Numbering::default();
            later.mistakes = MistakesBuilder::default();
        }
        if later.slices.count() > SLICES_KEPT {
            later.slices = later.slices.without_any();
            later.gathered = Self::new("").gathered;
        }
    }

    pub(super) fn terms_state(&self) -> TermsState {
        self.terms.state()
    }

    /// Whether words weigh the same and the same slices are crossed.
    pub(super) fn is_made_like(&self, other: &Self) -> bool {
        self.weights == other.weights && self.slices.agrees(&other.slices)
    }

    /// What was read from a file, made whole again; what cannot be right where that is so.
    pub(super) fn restored(self, profile: &TextProfile, terms: TermsState) -> Result<Self, &'static str> {
        let words = self.compared.vocabulary.len();
        let whole = self.gathered.is_sound(&Self::new("").gathered)
            && self.slices.is_sound(self.gathered.sets(), self.timing.clips())
            && self.mistakes.is_sound(words)
            && self.confidence.is_sound()
            && self.clip_rates.keys().all(|words| *words > 0);
        if !whole {
            return Err("it names words, clips or slices that it does not hold");
        }
        Ok(Self { terms: TermsBuilder::restored(profile, terms), ..self })
    }

    /// The score of all that was added.
    #[must_use]
    pub fn finish(self) -> Score {
        let facts = self.gathered.by_set();
        let measures = measured(&facts, 0);
        let lost = !self.missing.is_empty() || self.missing_repeats > 0;
        let missing_as_empty = lost.then(|| AllClips {
            clips: self.all.clips,
            words: WordRates::new(self.all.words, measures.get("wer_failures_as_empty")),
            characters: self.all.characters.into(),
        });
        let disputed = (self.disputed.clips > 0).then(|| AllClips {
            clips: self.disputed.clips,
            words: WordRates::new(self.disputed.words, None),
            characters: self.disputed.characters.into(),
        });
        let by_speaker = self.speakers.estimate();
        let calibration = measures.get("calibration_error").map(|estimate| estimate.value);
        let confidence = self.confidence.finish().map(|report| ConfidenceReport {
            calibration_error: calibration.unwrap_or(report.calibration_error_with_chance),
            ..report
        });
        let weighted = find("weighted_wer").and_then(|measure| facts.sums(measure, 0));
        let weighted = weighted.filter(|sums| sums[1] > 0.0).map(|sums| WeightedRate {
            wer: Some(sums[0] / sums[1]),
            said: sums[1],
            wrong: sums[0],
        });
        let rates = self.clip_rates.iter().map(|(words, [wrong, _])| *wrong as f64 / *words as f64).sum::<f64>();
        let rated: u64 = self.clip_rates.values().map(|[_, clips]| clips).sum();
        Score {
            clips: self.scored.clips,
            missing: self.missing,
            unknown: self.unknown,
            words: WordRates::new(self.scored.words, measures.get("wer")),
            characters: self.scored.characters.into(),
            wer_as_written: share(self.as_written.errors(), self.as_written.reference()),
            mean_clip_wer: (rated > 0).then(|| rates / rated as f64),
            clips_in_pieces: self.clips_in_pieces,
            clips_with_errors: self.clips_with_errors,
            ser: share(self.clips_with_errors, self.scored.clips),
            missing_as_empty,
            disputed,
            interval_by_speaker: by_speaker.and_then(|estimate| estimate.interval),
            speakers: by_speaker.map(|estimate| estimate.units),
            weighted,
            slices: self.slices.finish(&self.timing, &facts),
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
/// The most words in a row that nothing was heard of.
fn longest_gap(steps: &[NumberedStep]) -> u64 {
    let (mut longest, mut gap) = (0, 0);
    for step in steps {
        gap = if step.heard.is_none() { gap + 1 } else { 0 };
        longest = longest.max(gap);
    }
    longest
}
