//! Two variants over the same clips: which is better, and is it sure.

use std::collections::{BTreeSet, HashMap};

use fonex_core::Clip;
use fonex_core::findings::{Finding, Measure, Pairs, Question, answer};
use fonex_core::stats::{PairedRatio, median};
use fonex_store::TrialRecord;
use serde::Serialize;

use super::{CostSummary, RunView, VariantView};

/// A variant of a run.
#[derive(Clone, Copy)]
pub struct Side<'v> {
    /// The run.
    pub run: &'v RunView,
    /// The variant.
    pub variant: &'v VariantView,
}

impl Side<'_> {
    /// `1:marl/river`.
    pub fn name(&self) -> String {
        let run = self.run.run.label.clone().unwrap_or_else(|| self.run.run.id.to_string());
        format!("{run}:{}", self.variant.variant.name)
    }
}

/// Recognisers, synthesisers and responders: only variants that do the same are compared.
pub fn by_task<'s>(sides: &[Side<'s>]) -> [Vec<Side<'s>>; 3] {
    ["hear", "speak", "reply"].map(|task| sides.iter().copied().filter(|s| s.variant.variant.task == task).collect())
}

/// The findings about one pair of variants.
#[derive(Debug, Clone, Serialize)]
pub struct Comparison {
    /// What is compared against.
    pub first: String,
    /// What is compared.
    pub second: String,
    /// What makes the two less comparable: machine, corpus, text profile, version.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cautions: Vec<String>,
    /// What can be said.
    pub findings: Vec<Finding>,
    /// What the first costs, where its engine has prices.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_cost: Option<CostSummary>,
    /// What the second costs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub second_cost: Option<CostSummary>,
}

/// Compares one variant with others. All findings together count as one family for the corrections.
pub fn compare(first: Side<'_>, others: &[Side<'_>], by: &[String], seed: u64) -> Vec<Comparison> {
    let questions: Vec<Vec<Question>> = others.iter().map(|other| questions(first, *other, by)).collect();
    let all: Vec<Question> = questions.iter().flatten().cloned().collect();
    let mut findings = answer(&all, seed).into_iter();
    others
        .iter()
        .zip(questions)
        .map(|(other, asked)| Comparison {
            first: first.name(),
            second: other.name(),
            cautions: cautions(first, *other),
            findings: findings.by_ref().take(asked.len()).collect(),
            first_cost: first.variant.cost.clone(),
            second_cost: other.variant.cost.clone(),
        })
        .collect()
}

fn cautions(first: Side<'_>, second: Side<'_>) -> Vec<String> {
    let (a, b) = (&first.run.run, &second.run.run);
    let mut cautions = Vec::new();
    for side in [first, second] {
        if side.variant.other_language > 0 {
            let name = &side.variant.variant.name;
            cautions.push(format!(
                "{name} reads {} clips in a language that its voice does not list",
                side.variant.other_language
            ));
        }
    }
    let mut differs = |differ: bool, what: String| {
        if differ {
            cautions.push(what);
        }
    };
    let machine = |run: &fonex_store::Run| (run.machine.cpu.clone(), run.machine.cores, run.machine.memory_mib);
    differs(machine(a) != machine(b), "made on different machines: latencies do not compare".to_owned());
    differs(
        a.corpus_checksum != b.corpus_checksum,
        "made on different corpora: only shared clips are compared".to_owned(),
    );
    differs(
        a.text_profile != b.text_profile,
        format!("scored under different text profiles, {} and {}", a.text_profile.name, b.text_profile.name),
    );
    differs(
        a.fonex_version != b.fonex_version,
        format!("made by different versions of Fonex, {} and {}", a.fonex_version, b.fonex_version),
    );
    let given = |side: Side<'_>| {
        let prepared = side.variant.records.iter().find_map(|trial| trial.prepared.clone())?;
        Some(prepared.rsplit_once(" to ")?.1.to_owned())
    };
    if let (Some(one), Some(other)) = (given(first), given(second)) {
        differs(one != other, format!("given audio in different forms: {one} and {other}"));
    }
    for side in [first, second] {
        let failed = side.variant.failed();
        let of = side.variant.trials;
        differs(
            failed > 0,
            format!("{} has {failed} of {of} trials without an answer; they are not in the pairs", side.name()),
        );
        let run = &side.run.run;
        let unfinished = run.state == fonex_store::RunState::Unfinished;
        differs(unfinished, format!("run {} is unfinished", side.run.name()));
    }
    cautions
}

fn questions(first: Side<'_>, second: Side<'_>, by: &[String]) -> Vec<Question> {
    let mut questions = Vec::new();
    let mut ask = |measure, slice: Option<String>, pairs: Pairs| {
        questions.push(Question { measure, slice, pairs });
    };
    if first.variant.score.is_some() && second.variant.score.is_some() {
        ask(Measure::Wer, None, error_pairs(first, second, &|_| true));
        for by in by {
            for value in values(first, by) {
                let within = |clip: &Clip| value_of(clip, by) == Some(value.as_str());
                ask(Measure::Wer, Some(format!("{by}={value}")), error_pairs(first, second, &within));
            }
        }
    }
    let took = |trial: &TrialRecord| trial.took_ms;
    ask(Measure::LatencyMs, None, value_pairs(first, second, &took));
    if first.variant.speech.is_some() && second.variant.speech.is_some() {
        ask(Measure::Rtf, None, value_pairs(first, second, &|trial| Some(trial.took_ms? / 1e3 / trial.audio_s?)));
        let clipped = |trial: &TrialRecord| trial.measures.map(|m| m.clipped_share);
        ask(Measure::ClippedShare, None, value_pairs(first, second, &clipped));
    }
    questions
}

/// A clip's value of a tag, `speaker` or `lang`.
pub fn value_of<'c>(clip: &'c Clip, by: &str) -> Option<&'c str> {
    match by {
        "speaker" => clip.speaker.as_deref(),
        "lang" => clip.lang.as_deref(),
        tag => clip.tags.get(tag).map(String::as_str),
    }
}

fn values(side: Side<'_>, by: &str) -> BTreeSet<String> {
    let clips = side.variant.clips.iter().filter_map(|result| side.run.labels.get(&result.id));
    clips.filter_map(|clip| value_of(clip, by).map(str::to_owned)).collect()
}

/// Word errors of the clips both variants answered.
pub(super) fn error_pairs(first: Side<'_>, second: Side<'_>, within: &dyn Fn(&Clip) -> bool) -> Pairs {
    let other: HashMap<&str, _> = second.variant.clips.iter().map(|clip| (clip.id.as_str(), clip.words)).collect();
    let pairs = first.variant.clips.iter().filter_map(|clip| {
        let words = other.get(clip.id.as_str())?;
        within(first.run.labels.get(&clip.id)?).then(|| PairedRatio {
            first: clip.words.errors(),
            first_over: clip.words.reference(),
            second: words.errors(),
            second_over: words.reference(),
        })
    });
    Pairs::Ratio(pairs.collect())
}

/// The medians over repeats of a value, for the clips both variants answered.
fn value_pairs(first: Side<'_>, second: Side<'_>, value: &dyn Fn(&TrialRecord) -> Option<f64>) -> Pairs {
    let medians = |side: Side<'_>| {
        let mut by_clip: HashMap<String, Vec<f64>> = HashMap::new();
        for trial in side.variant.records.iter().filter(|trial| trial.outcome.is_answer()) {
            if let Some(value) = value(trial) {
                by_clip.entry(trial.key.clip_id.clone()).or_default().push(value);
            }
        }
        by_clip
    };
    let (first, second) = (medians(first), medians(second));
    let mut ids: Vec<&String> = first.keys().filter(|id| second.contains_key(*id)).collect();
    ids.sort();
    Pairs::Value(ids.into_iter().filter_map(|id| Some((median(&first[id])?, median(&second[id])?))).collect())
}
