//! What is known of each voice of a run, side by side: how well it is understood, how it speaks, how soon, at what price.

use std::collections::HashMap;

use fonex_core::measures::{Better, Estimate, Mattering, Measure, estimate, find};
use fonex_core::speech::words_for;
use fonex_core::{Clip, Task};
use fonex_store::{Run, RunState, Store, StoreError, Variant};

use crate::by_clip::{APART, ByClip};
use crate::figures::Wanted;
use crate::view::{RunView, VariantView};

/// A voice with the recognisers that hear it.
#[derive(Debug, Clone)]
pub struct VoiceCard<'v> {
    /// The voice.
    pub voice: &'v VariantView,
    /// Each recogniser's name and what it makes of the voice, in the order of the plan.
    pub heard_by: Vec<(String, &'v VariantView)>,
    /// Whether no other voice is surely better in one thing without being worse in another by what matters: the WERs and [`VoiceCard::AXES`].
    pub on_front: bool,
}

impl<'v> VoiceCard<'v> {
    /// What voices are traded off by, beside how well they are understood.
    pub const AXES: [&'static str; 4] =
        ["faulty_clips", "clipped_clips", "first_audible_p50", "cost_per_audio_minute"];

    /// The voices of a run.
    #[must_use]
    pub fn of(view: &'v RunView) -> Vec<Self> {
        let voices = view.variants.iter().filter(|variant| variant.variant.task == Task::Speak);
        let mut cards: Vec<Self> = voices
            .map(|voice| {
                let hears = |other: &&VariantView| other.variant.hears == Some(voice.place);
                let heard_by = view.variants.iter().filter(hears).map(|other| (listener(other), other));
                VoiceCard { voice, heard_by: heard_by.collect(), on_front: true }
            })
            .collect();
        for at in 0..cards.len() {
            cards[at].on_front = !cards.iter().any(|other| other.beats(&cards[at]));
        }
        cards
    }

    /// What a listener would remark of the voice as a whole: slow, flat, lively, and the like.
    #[must_use]
    pub fn in_words(&self) -> Vec<&'static str> {
        let value = |id: &str| self.voice.measures.get(id).map(|estimate| estimate.value);
        words_for(value("syllable_rate"), value("pitch_range_st"))
    }

    /// A figure of the voice, or, of a measure of hearing, the mean over its recognisers.
    #[must_use]
    pub fn figure(&self, measure: &Measure) -> Option<f64> {
        if let Some(own) = self.voice.measures.get(measure.id) {
            return Some(own.value);
        }
        let heard: Vec<f64> =
            self.heard_by.iter().filter_map(|(_, heard)| Some(heard.measures.get(measure.id)?.value)).collect();
        (!heard.is_empty()).then(|| heard.iter().sum::<f64>() / heard.len() as f64)
    }

    /// How voices stand by some measures with weights: each figure is scaled so that the best of the voices has 1 and the worst 0, and the mean
    /// is taken by weight. None for a voice that lacks a figure.
    #[must_use]
    pub fn weighted(cards: &[Self], weights: &[(&'static Measure, f64)]) -> Vec<Option<f64>> {
        let all: f64 = weights.iter().map(|(_, weight)| weight).sum();
        let mut sums: Vec<Option<f64>> = vec![Some(0.0); cards.len()];
        for (measure, weight) in weights {
            let figures: Vec<Option<f64>> = cards.iter().map(|card| card.figure(measure)).collect();
            let known = || figures.iter().flatten().copied();
            let (low, high) = (known().fold(f64::INFINITY, f64::min), known().fold(f64::NEG_INFINITY, f64::max));
            for (sum, figure) in sums.iter_mut().zip(&figures) {
                let place = figure.map(|figure| {
                    let up = if high > low { (figure - low) / (high - low) } else { 1.0 };
                    if measure.better == Better::Lower && high > low { 1.0 - up } else { up }
                });
                *sum = sum.zip(place).map(|(sum, place)| sum + place * weight / all);
            }
        }
        sums
    }

    /// The figures that voices are traded off by: first the WER of each recogniser that hears it.
    fn axes(&self) -> Vec<(&'static Measure, Option<&'v Estimate>)> {
        let wer = find("wer");
        let heard = self.heard_by.iter().filter_map(|(_, heard)| Some((wer?, heard.measures.get("wer"))));
        let own = Self::AXES.iter().filter_map(|id| Some((find(id)?, self.voice.measures.get(id))));
        heard.chain(own).collect()
    }

    /// Whether this voice is surely better in one thing (the intervals do not overlap), and in no other worse by what matters.
    fn beats(&self, other: &Self) -> bool {
        let mut better_somewhere = false;
        for ((measure, own), (_, others)) in self.axes().into_iter().zip(other.axes()) {
            let (Some(own), Some(others)) = (own, others) else { continue };
            let sign = if measure.better == Better::Higher { -1.0 } else { 1.0 };
            // A figure without an interval, such as a price, is taken as it is.
            let bounds = |estimate: &Estimate| {
                let interval = estimate.interval.map_or((estimate.value, estimate.value), |i| (i.low, i.high));
                if sign > 0.0 { interval } else { (-interval.1, -interval.0) }
            };
            let matters = measure.matters(&Mattering::new()).from(others.value);
            let worse = sign * (own.value - others.value) > matters;
            let (own, others) = (bounds(own), bounds(others));
            if own.1 < others.0 {
                better_somewhere = true;
            } else if worse {
                return false;
            }
        }
        better_somewhere
    }
}

/// What a recogniser makes of natural recordings, to hold its errors on voices against.
#[derive(Debug, Clone)]
pub struct Natural {
    /// The recogniser.
    pub recogniser: String,
    /// The run it heard them in.
    pub run: String,
    /// Its WER there.
    pub wer: Estimate,
}

/// For each recogniser that hears voices in a run, its WER on the recordings of the texts that were spoken: in `recordings`;
/// without it in the same run, else in the nearest finished run before it, else in the first behind it.
///
/// # Errors
/// When the store cannot be read.
pub fn natural(store: &mut Store, view: &RunView, recordings: Option<&Run>) -> Result<Vec<Natural>, StoreError> {
    let mut names: Vec<String> =
        view.variants.iter().filter(|variant| variant.variant.hears.is_some()).map(listener).collect();
    names.sort();
    names.dedup();
    let hears = |variant: &Variant, name: &String| variant.hears.is_none() && variant.name == *name;
    let (Some(wer), spoken) = (find("wer"), spoken_clips(view)) else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for recogniser in names {
        let mut runs = match recordings {
            Some(run) => vec![run.clone()],
            None => candidates(store.runs()?, &view.run),
        };
        runs.retain(|run| run.variants.iter().any(|variant| hears(variant, &recogniser)));
        for run in runs {
            let clips = recordings_of(store, view, &spoken, &run.corpus_checksum)?;
            let wanted = Wanted { measures: vec![wer], ..Wanted::default() };
            let heard = RunView::load(store, run, Some(view.profile()), &wanted)?;
            let variant = heard.variants.iter().find(|variant| hears(&variant.variant, &recogniser));
            let Some(variant) = variant else { continue };
            if let Some(wer) = over(store, &heard, variant, wer, &clips)? {
                found.push(Natural { recogniser, run: heard.name(), wer });
                break;
            }
        }
    }
    Ok(found)
}

/// The run itself, then those before it from the latest on, then those after it from the earliest on: what is run later
/// changes nothing of what was shown. Runs that are not finished are left out.
fn candidates(runs: Vec<Run>, own: &Run) -> Vec<Run> {
    let finished = runs.into_iter().filter(|run| run.id != own.id && run.state == RunState::Finished);
    let (before, after): (Vec<Run>, Vec<Run>) = finished.partition(|run| run.id < own.id);
    std::iter::once(own.clone()).chain(before.into_iter().rev()).chain(after).collect()
}

/// The places, in a corpus, of the recordings of the texts that voices spoke, in order: clips of the same id and text as
/// they were recorded, none that was varied.
fn recordings_of(store: &Store, view: &RunView, spoken: &[u32], checksum: &str) -> Result<Vec<u32>, StoreError> {
    let is_recorded = |clip: &Clip| clip.recipe().is_none();
    let own = store.clips(&view.run.corpus_checksum)?;
    if checksum == view.run.corpus_checksum {
        return Ok(spoken
            .iter()
            .copied()
            .filter(|place| own.get(*place as usize).is_some_and(is_recorded))
            .collect());
    }
    let spoken = spoken.iter().filter_map(|place| own.get(*place as usize));
    let texts: HashMap<&str, &str> = spoken.map(|clip| (clip.id.as_str(), clip.text.as_str())).collect();
    let others = (0_u32..).zip(store.clips(checksum)?);
    let same =
        others.filter(|(_, clip)| is_recorded(clip) && texts.get(clip.id.as_str()) == Some(&clip.text.as_str()));
    Ok(same.map(|(place, _)| place).collect())
}

/// A measure of a variant over some clips; none where it answered none of them.
fn over(
    store: &Store,
    view: &RunView,
    variant: &VariantView,
    measure: &Measure,
    clips: &[u32],
) -> Result<Option<Estimate>, StoreError> {
    let (column, places) = view.fact(store, variant, measure.fact)?;
    let by_clip = ByClip::new(places);
    let named = |at: &usize| clips.binary_search(&by_clip.clips[*at]).is_ok();
    let sample = by_clip.sample(&column).at((0..by_clip.clips.len()).filter(named));
    Ok(estimate(measure.estimator, &sample))
}

/// The places of the clips that voices of a run spoke, in order.
fn spoken_clips(view: &RunView) -> Vec<u32> {
    let voices = view.variants.iter().filter(|variant| variant.variant.task == Task::Speak);
    let mut places: Vec<u32> =
        voices.flat_map(|voice| voice.places().iter().copied()).filter(|place| *place != APART).collect();
    places.sort_unstable();
    places.dedup();
    places
}

/// `marl/river`, of a variant that hears a voice.
pub(crate) fn listener(variant: &VariantView) -> String {
    let variant = &variant.variant;
    if variant.model.is_empty() { variant.engine.clone() } else { format!("{}/{}", variant.engine, variant.model) }
}
