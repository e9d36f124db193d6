//! One run, measured: each variant with its outcomes, scores and latencies.

use std::collections::{HashMap, HashSet};

use fonex_core::accuracy::{Score, ScoreBuilder, WordStep};
use fonex_core::align::EditCounts;
use fonex_core::cost::Usage;
use fonex_core::latency::{Percentiles, real_time_factor};
use fonex_core::text::Label;
use fonex_core::timing::word_offsets;
use fonex_core::{Clip, Outcome};
use fonex_engines::lists_language;
use fonex_store::{Run, Store, StoreError, TrialRecord, Variant};
use serde::Serialize;

use super::{CostSummary, ExchangeSummary, SpeechSummary, TimeSummary};

/// How much of a run is measured: each costs more than the one before.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Depth {
    Rates,
    Times,
    All,
}

/// A run with all that is measured of it.
#[derive(Debug, Serialize)]
pub struct RunView {
    /// The run.
    pub run: Run,
    /// Its variants, in the order of the plan.
    pub variants: Vec<VariantView>,
    /// The labels by id.
    #[serde(skip)]
    pub labels: HashMap<String, Clip>,
}

/// A variant with all that is measured of it. Warm-up trials are left out.
#[derive(Debug, Serialize)]
pub struct VariantView {
    /// The variant.
    #[serde(flatten)]
    pub variant: Variant,
    /// Timed trials that have an outcome.
    pub trials: u64,
    /// Warm-up trials, which no figure counts.
    pub warm_up: u64,
    /// Trials by outcome.
    pub outcomes: Vec<OutcomeCount>,
    /// What was heard against the labels; left out for synthesisers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub score: Option<Score>,
    /// What was spoken; left out for recognisers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speech: Option<SpeechSummary>,
    /// Wall time of answered calls in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub latency_ms: Option<Percentiles>,
    /// Milliseconds until the first text or sound, where answers came in pieces.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_ms: Option<Percentiles>,
    /// Words of the replies; left out for all but responders.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reply_words: Option<Percentiles>,
    /// When things came; only in depth.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub times: Option<TimeSummary>,
    /// What the requests took, where there were any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub exchange: Option<ExchangeSummary>,
    /// What was used and what it costs, where the engine has prices.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<CostSummary>,
    /// Clips in a language that the voice does not list; none where its languages are not known.
    #[serde(skip_serializing_if = "is_zero")]
    pub other_language: u64,
    /// Wall time for each second of audio heard or spoken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rtf: Option<Percentiles>,
    /// Processor seconds for each second of audio, where measured.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cpu_per_audio_s: Option<Percentiles>,
    /// Largest memory of the engine in KiB, where measured.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub peak_memory_kib: Option<u64>,
    /// Scored clips, repeats together, in corpus order.
    #[serde(skip)]
    pub clips: Vec<ClipResult>,
    /// What was used of the engine, warm-up included: that is charged as well.
    #[serde(skip)]
    pub used: Usage,
    /// The timed trials.
    #[serde(skip)]
    pub records: Vec<TrialRecord>,
}

/// How often trials ended in one way.
#[derive(Debug, Clone, Serialize)]
pub struct OutcomeCount {
    /// The way.
    pub outcome: Outcome,
    /// How often.
    pub trials: u64,
}

/// One clip of a recogniser variant; repeats are added up.
#[derive(Debug, Clone)]
pub struct ClipResult {
    /// The clip.
    pub id: String,
    /// Word counts over all answered repeats.
    pub words: EditCounts,
    /// Character counts over all answered repeats.
    pub characters: EditCounts,
    /// The first answered repeat word by word.
    pub steps: Vec<WordStep>,
}

impl RunView {
    /// Measures a stored run by its rates.
    pub fn load(store: &Store, run: Run) -> Result<Self, StoreError> {
        Self::measure(store, run, Depth::Rates)
    }

    /// Measures a stored run by its rates and by when things came.
    pub fn load_with_times(store: &Store, run: Run) -> Result<Self, StoreError> {
        Self::measure(store, run, Depth::Times)
    }

    /// Measures a stored run, what went wrong included.
    pub fn load_in_depth(store: &Store, run: Run) -> Result<Self, StoreError> {
        Self::measure(store, run, Depth::All)
    }

    fn measure(store: &Store, run: Run, depth: Depth) -> Result<Self, StoreError> {
        let clips = store.clips(&run.corpus_checksum)?;
        let mut by_variant: Vec<Vec<TrialRecord>> = run.variants.iter().map(|_| Vec::new()).collect();
        for trial in store.trials(run.id)? {
            by_variant[trial.key.variant].push(trial);
        }
        let mut variants: Vec<VariantView> = run
            .variants
            .iter()
            .zip(by_variant)
            .map(|(variant, trials)| VariantView::measure(variant.clone(), trials, &clips, &run, depth))
            .collect();
        let costs = CostSummary::of_all(&variants);
        variants.iter_mut().zip(costs).for_each(|(view, cost)| view.cost = cost);
        Ok(Self { run, variants, labels: clips.into_iter().map(|clip| (clip.id.clone(), clip)).collect() })
    }

    /// A name for people: number and label.
    pub fn name(&self) -> String {
        match &self.run.label {
            Some(label) => format!("{} ({label})", self.run.id),
            None => self.run.id.to_string(),
        }
    }
}

impl VariantView {
    fn measure(variant: Variant, trials: Vec<TrialRecord>, clips: &[Clip], run: &Run, depth: Depth) -> Self {
        let (warm, records): (Vec<_>, Vec<_>) = trials.into_iter().partition(|trial| trial.key.warm_up);
        let answered = || records.iter().filter(|trial| trial.outcome.is_answer());
        let took: Vec<f64> = answered().filter_map(|trial| trial.took_ms).collect();
        let per_audio = |value: fn(&TrialRecord) -> Option<f64>| {
            let factors: Vec<f64> =
                answered().filter_map(|trial| real_time_factor(value(trial)?, trial.audio_s?)).collect();
            Percentiles::of(&factors)
        };
        let outcomes = Outcome::ALL
            .into_iter()
            .map(|outcome| OutcomeCount { outcome, trials: count(&records, outcome) })
            .filter(|count| count.trials > 0)
            .collect();
        let hears = variant.task == "hear";
        let (score, results) =
            if hears { score(&records, clips, run, depth == Depth::All) } else { (None, Vec::new()) };
        let reply_words: Vec<f64> =
            answered().filter_map(|trial| Some(trial.replied.as_ref()?.split_whitespace().count() as f64)).collect();
        let used = records.iter().chain(&warm).filter_map(|trial| trial.used).fold(Usage::default(), Usage::plus);
        Self {
            trials: records.len() as u64,
            warm_up: warm.len() as u64,
            outcomes,
            score,
            speech: if variant.task == "speak" { SpeechSummary::of(&records, clips) } else { None },
            latency_ms: Percentiles::of(&took),
            first_ms: Percentiles::of(&answered().filter_map(|trial| trial.first_ms).collect::<Vec<_>>()),
            reply_words: Percentiles::of(&reply_words),
            times: (depth != Depth::Rates)
                .then(|| TimeSummary::of(&variant.task, &records, &warm, clips, &run.text_profile, run.seed)),
            exchange: ExchangeSummary::of(&records),
            cost: None,
            other_language: other_language(&variant, &records, clips),
            used,
            rtf: per_audio(|trial| Some(trial.took_ms? / 1e3)),
            cpu_per_audio_s: per_audio(|trial| trial.cpu_s),
            peak_memory_kib: answered().filter_map(|trial| trial.peak_memory_kib).max(),
            clips: results,
            records,
            variant,
        }
    }

    /// Timed trials that have no answer.
    pub fn failed(&self) -> u64 {
        self.outcomes.iter().filter(|count| !count.outcome.is_answer()).map(|count| count.trials).sum()
    }

    /// The clips with the most wrong words, worst first; clips without an error are not among them.
    pub fn worst(&self, most: usize) -> Vec<&ClipResult> {
        let mut worst: Vec<&ClipResult> = self.clips.iter().filter(|clip| clip.words.errors() > 0).collect();
        let rate = |clip: &ClipResult| clip.words.errors() as f64 / clip.words.reference().max(1) as f64;
        worst.sort_by(|a, b| rate(b).total_cmp(&rate(a)).then_with(|| a.id.cmp(&b.id)));
        worst.truncate(most);
        worst
    }
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde passes a reference")]
fn is_zero(count: &u64) -> bool {
    *count == 0
}

/// Clips that were to be spoken in a language the voice does not list.
fn other_language(variant: &Variant, records: &[TrialRecord], clips: &[Clip]) -> u64 {
    let spoken: HashSet<&str> = records.iter().map(|trial| trial.key.clip_id.as_str()).collect();
    let foreign = |clip: &&Clip| clip.lang.as_ref().is_some_and(|lang| !lists_language(&variant.languages, lang));
    clips.iter().filter(|clip| spoken.contains(clip.id.as_str())).filter(foreign).count() as u64
}

fn count(records: &[TrialRecord], outcome: Outcome) -> u64 {
    records.iter().filter(|trial| trial.outcome == outcome).count() as u64
}

fn score(records: &[TrialRecord], clips: &[Clip], run: &Run, in_depth: bool) -> (Option<Score>, Vec<ClipResult>) {
    let mut by_clip: HashMap<&str, Vec<&TrialRecord>> = HashMap::new();
    for record in records {
        by_clip.entry(&record.key.clip_id).or_default().push(record);
    }
    let profile = &run.text_profile;
    let mut builder = ScoreBuilder::new(&profile.name, run.seed);
    let mut results = Vec::new();
    for clip in clips.iter().filter(|clip| in_depth && by_clip.contains_key(clip.id.as_str())) {
        builder.tell_terms(profile, &clip.terms);
    }
    for clip in clips {
        let (Some(trials), Ok(label)) = (by_clip.get(clip.id.as_str()), Label::parse(&clip.text)) else { continue };
        // Counts of words and characters over the repeats, and the first of them word by word.
        let mut sum: Option<(EditCounts, EditCounts, Vec<WordStep>)> = None;
        let mut offsets = None;
        for trial in trials {
            let Some(heard) = trial.heard.as_ref().filter(|_| trial.outcome.is_answer()) else {
                builder.add_missing(profile, clip, &label);
                continue;
            };
            let (words, characters) = builder.compare(profile, &label, &heard.text);
            // Each answer counts, also those of repeats: a mistake made twice is made twice.
            if in_depth {
                builder.add_in_depth(profile, clip, &label, heard);
            }
            match &mut sum {
                None => {
                    offsets = word_offsets(profile, clip, heard);
                    sum = Some((words, characters, builder.compared().steps));
                }
                Some(sum) => {
                    sum.0 += words;
                    sum.1 += characters;
                }
            }
        }
        if let Some((words, characters, steps)) = sum {
            builder.add(clip, words, characters, offsets.as_ref());
            results.push(ClipResult { id: clip.id.clone(), words, characters, steps });
        }
    }
    (Some(builder.finish()), results)
}
