//! How well the measures of a run agree with the listeners of a panel.

use std::collections::{BTreeMap, HashMap};

use fonex_core::Task;
use fonex_core::measures::{Better, Measure, all, estimate, find};
use fonex_core::panel::{Concordance, concordance};
use fonex_store::{Store, StoreError};
use serde::{Deserialize, Serialize};

use super::{PanelKey, PanelText, VoiceRole};
use crate::by_clip::ByClip;
use crate::view::{RunView, VariantView};
use crate::voices::listener;

/// A measure held against what listeners said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct MeasureAgreement {
    /// Id of the measure.
    pub measure: String,
    /// The recogniser whose hearing is measured; left out for measures of the voice itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard_by: Option<String>,
    /// How often it orders two voices as the listeners do.
    #[serde(flatten)]
    pub concordance: Concordance,
}

/// A measure of each text by each voice.
type ByTextAndVoice = HashMap<(u32, u32), f64>;

/// Holds every measure that knows better from worse against what listeners said, text by text. `liked` is (text, voice, opinion). A measure that
/// never tells two voices of a text apart is left out.
///
/// # Errors
/// When the store cannot be read.
pub fn agree_with_measures(
    store: &Store,
    key: &PanelKey,
    views: &[RunView],
    liked: &[(u32, u32, f64)],
) -> Result<Vec<MeasureAgreement>, StoreError> {
    let mut places: HashMap<i64, Vec<Option<u32>>> = HashMap::new();
    for view in views {
        let clips = store.clips(&view.run.corpus_checksum)?;
        let place = |text: &PanelText| Some(clips.iter().position(|clip| clip.id == text.clip)? as u32);
        places.insert(view.run.id, key.texts.iter().map(place).collect());
    }
    let mut found: BTreeMap<(Option<String>, &'static str), ByTextAndVoice> = BTreeMap::new();
    for (voice, named) in (0..).zip(&key.voices).filter(|(_, named)| named.role == VoiceRole::Voice) {
        let Some(view) = views.iter().find(|view| Some(view.run.id) == named.run) else { continue };
        let is_voice = |variant: &&VariantView| {
            variant.variant.task == Task::Speak && Some(&variant.variant.name) == named.variant.as_ref()
        };
        let Some(own) = view.variants.iter().find(is_voice) else { continue };
        let hears = view.variants.iter().filter(|other| other.variant.hears == Some(own.place));
        for variant in std::iter::once(own).chain(hears) {
            let heard_by = variant.variant.hears.is_some().then(|| listener(variant));
            for measure in all().filter(|measure| measure.better != Better::Neither) {
                if variant.measures.get(measure.id).is_none() {
                    continue;
                }
                let values = by_text(store, &places[&view.run.id], view, variant, measure)?;
                let all = found.entry((heard_by.clone(), measure.id)).or_default();
                all.extend(values.into_iter().map(|(text, value)| ((text, voice), value)));
            }
        }
    }
    let mut agreements: Vec<MeasureAgreement> = found
        .into_iter()
        .filter_map(|((heard_by, id), values)| {
            let measure = find(id)?;
            let mut texts: BTreeMap<u32, Vec<(f64, f64)>> = BTreeMap::new();
            for (text, voice, opinion) in liked {
                if let Some(value) = values.get(&(*text, *voice)) {
                    texts.entry(*text).or_default().push((*value, *opinion));
                }
            }
            let texts: Vec<Vec<(f64, f64)>> = texts.into_values().collect();
            let concordance = concordance(&texts, measure.better == Better::Lower)?;
            Some(MeasureAgreement { measure: id.to_owned(), heard_by, concordance })
        })
        .collect();
    // Percentiles of one trial are one figure: the first of those that are computed from the same fact and agree alike stands for all.
    let fact = |one: &MeasureAgreement| find(&one.measure).map(|measure| measure.fact.id);
    agreements.dedup_by(|later, first| {
        (&later.heard_by, fact(later), &later.concordance) == (&first.heard_by, fact(first), &first.concordance)
    });
    agreements.sort_by(|a, b| b.concordance.share.value.total_cmp(&a.concordance.share.value));
    Ok(agreements)
}

/// A measure of each text of the panel by itself; `texts` are their places in the corpus.
fn by_text(
    store: &Store,
    texts: &[Option<u32>],
    view: &RunView,
    variant: &VariantView,
    measure: &Measure,
) -> Result<Vec<(u32, f64)>, StoreError> {
    let (column, places) = view.fact(store, variant, measure.fact)?;
    let by_clip = ByClip::new(places);
    let sample = by_clip.sample(&column);
    let mut values = Vec::new();
    for (text, place) in (0..).zip(texts) {
        let at = place.and_then(|place| by_clip.clips.binary_search(&place).ok());
        let value = at.and_then(|at| estimate(measure.estimator, &sample.at(std::iter::once(at))));
        values.extend(value.map(|value| (text, value.value)));
    }
    Ok(values)
}
