//! Labels of stored runs on trial: what several engines agree on against the label.

use std::collections::HashMap;

use fonex_core::accuracy::score_clip;
use fonex_core::accuracy::suspects::{SuspectSpot, Voter, put_on_trial};
use fonex_core::in_parallel;
use fonex_core::text::Label;
use fonex_core::{Clip, Task};
use fonex_store::{Store, StoreError};
use serde::Serialize;

use crate::view::{RunView, VariantView};

/// Trials read at a time.
const ROUND: usize = 1 << 12;

/// What several engines say of the labels of a corpus.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct LabelsOnTrial {
    /// The engines, each by one variant of it.
    pub engines: Vec<TryingEngine>,
    /// Clips that at least two of them heard.
    pub clips: usize,
    /// Wrong labels to be expected among them.
    pub expected_wrong: f64,
    /// The suspect clips, most suspect first.
    pub suspects: Vec<SuspectClip>,
}

/// An engine that labels are tried by.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct TryingEngine {
    /// Its run and variant.
    pub name: String,
    /// What bad labels are expected to add to its word error rate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub added_wer: Option<f64>,
}

/// A clip whose label may be wrong.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct SuspectClip {
    /// The clip.
    pub clip: String,
    /// The chance that its label is wrong.
    pub chance: f64,
    /// The label.
    pub label: String,
    /// What it would say by what the engines agree on.
    pub agreed: String,
    /// Where, most suspect first.
    pub spots: Vec<SuspectSpot>,
}

/// Puts the labels of some clips on trial by what the engines of some runs heard. None where fewer than two engines did. Models
/// of one engine err alike: each engine has one voice.
///
/// # Errors
/// When the store cannot be read.
pub fn try_labels(store: &Store, runs: &[RunView], clips: &[Clip]) -> Result<Option<LabelsOnTrial>, StoreError> {
    let voices = voices(runs);
    if voices.len() < 2 {
        return Ok(None);
    }
    let places: HashMap<&str, usize> = clips.iter().enumerate().map(|(at, clip)| (clip.id.as_str(), at)).collect();
    let mut heard: Vec<Vec<Option<String>>> = vec![vec![None; clips.len()]; voices.len()];
    for (heard, (run, variant)) in heard.iter_mut().zip(&voices) {
        store.each_round(run.run.id, ROUND, |trials| {
            for stored in &trials {
                let Some(place) = places.get(stored.clip_id()) else { continue };
                let trial = stored.read()?;
                let own = trial.key.variant == variant.place && !trial.key.warm_up && trial.outcome.is_answer();
                if own && heard[*place].is_none() {
                    heard[*place] = trial.heard.map(|heard| heard.text);
                }
            }
            Ok(())
        })?;
    }
    let profile = runs[0].profile();
    let all: Vec<usize> = (0..clips.len()).collect();
    let voters: Vec<Vec<Voter>> = in_parallel(&all, |at| {
        let clip = &clips[*at];
        let Ok(label) = Label::parse(&clip.text) else { return Vec::new() };
        let own = profile.in_language(clip.lang.as_deref());
        let texts = heard.iter().enumerate().filter_map(|(engine, texts)| Some((engine, texts[*at].as_ref()?)));
        texts.map(|(engine, text)| Voter { engine, steps: score_clip(&own, &label, text).steps }).collect()
    });
    let tried = put_on_trial(voices.len(), &voters);
    let suspects = tried.suspects.into_iter().map(|suspect| {
        let clip = &clips[suspect.clip];
        let own = profile.in_language(clip.lang.as_deref());
        // As an engine wrote it, where one has every word that is agreed on.
        let texts = heard.iter().filter_map(|texts| texts[suspect.clip].as_ref());
        let same = |text: &&String| {
            let words = own.tokens(text);
            words.len() == suspect.agreed.len() && words.iter().zip(&suspect.agreed).all(|(a, b)| a.as_str() == b)
        };
        let agreed = texts.into_iter().find(same).cloned().unwrap_or_else(|| suspect.agreed.join(" "));
        let label = Label::parse(&clip.text).map_or_else(|_| clip.text.clone(), |label| label.first_reading());
        SuspectClip { clip: clip.id.clone(), chance: suspect.chance, label, agreed, spots: suspect.spots }
    });
    let engines = voices.iter().zip(tried.added).map(|((run, variant), added_wer)| {
        let name = run.run.label.clone().unwrap_or_else(|| run.run.id.to_string());
        TryingEngine { name: format!("{name}:{}", variant.variant.name), added_wer }
    });
    Ok(Some(LabelsOnTrial {
        engines: engines.collect(),
        clips: tried.clips,
        expected_wrong: tried.expected,
        suspects: suspects.collect(),
    }))
}

/// One variant of each engine that hears recordings: of those that heard most clips, the one with the lowest error rate.
fn voices(runs: &[RunView]) -> Vec<(&RunView, &VariantView)> {
    let mut voices: Vec<(&RunView, &VariantView)> = Vec::new();
    let rate = |variant: &VariantView| variant.measures.get("wer").map_or(f64::INFINITY, |wer| wer.value);
    for run in runs {
        for variant in &run.variants {
            if variant.variant.task != Task::Hear || variant.variant.hears.is_some() {
                continue;
            }
            match voices.iter_mut().find(|(_, known)| known.variant.engine == variant.variant.engine) {
                Some(known) if (known.1.clips, rate(variant)) < (variant.clips, rate(known.1)) => {
                    *known = (run, variant);
                }
                Some(_) => {}
                None => voices.push((run, variant)),
            }
        }
    }
    voices
}
