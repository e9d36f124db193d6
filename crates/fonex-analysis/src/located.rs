//! Where a change of a series lies: in which slices, and on which clips.

use fonex_core::Task;
use fonex_core::measures::find;
use fonex_core::verdict::Verdict;
use fonex_store::{Store, StoreError};

use crate::compare::{Asked, Material, Side, compare};
use crate::many::changed;
use crate::trend::Series;
use crate::view::{RunView, VariantView};

/// Clips named for a change.
const MOST_CLIPS: usize = 5;

/// Finds out for each change of a series in which slices the measure changed, and which clips suffered most: the run at which it
/// was found against the run before the change. All slices of a change are one family.
///
/// # Errors
/// When the store cannot be read.
pub fn locate(store: &Store, runs: &[RunView], series: &mut Series) -> Result<(), StoreError> {
    let Some(measure) = find(&series.measure) else { return Ok(()) };
    let side = |run: i64| -> Option<Side<'_>> {
        let run = runs.iter().find(|view| view.run.id == run)?;
        let variant: &VariantView = run.variants.iter().find(|view| view.variant.name == series.variant)?;
        Some(Side { run, variant, material: Material::Whole })
    };
    for change in &mut series.changes {
        let before = series.points.iter().rev().find(|point| point.run < change.from && point.value.is_some());
        let Some((first, second)) = before.and_then(|point| Some((side(point.run)?, side(change.told_by)?))) else {
            continue;
        };
        // What every clip has for itself, such as a speaker of one clip each, is no slice.
        let keys = first.run.sheet().keys.iter().filter(|key| {
            let clips = key.of_clip.iter().filter(|value| **value > 0).count();
            key.values.len() > 1 && key.values.len() * 2 <= clips
        });
        let by: Vec<String> = keys.map(|key| key.by.clone()).filter(|_| series.slice.is_none()).collect();
        let asked = Asked { measures: vec![measure], by, unit: Some(series.unit), ..Asked::default() };
        let found = compare(store, &[(first, second)], &asked)?;
        let findings = || found.iter().flat_map(|comparison| &comparison.findings);
        if change.verdict == Verdict::Alike {
            continue;
        }
        let all = findings().find(|finding| finding.slice.is_none()).map_or(0, |finding| finding.clips);
        // A slice that holds every clip says nothing new.
        let told = findings().filter(|finding| finding.verdict == change.verdict && finding.clips < all);
        change.slices = told.filter_map(|finding| finding.slice.clone()).collect();
        if first.variant.variant.task == Task::Hear && change.verdict == Verdict::Worse {
            let slice = series.slice.as_deref().and_then(|slice| slice.split_once('='));
            let inside = slice.and_then(|(by, value)| first.run.sheet().slice(by, value));
            let lost = changed(store, first, second)?.1.into_iter().filter(|(_, sides)| sides.is_lost());
            let lost = lost.filter(|(clip, _)| inside.as_ref().is_none_or(|inside| inside(*clip)));
            for (place, _) in lost.take(MOST_CLIPS) {
                let clip = store.clip_at(&first.run.run.corpus_checksum, place)?;
                change.clips_harmed.extend(clip.map(|clip| clip.id));
            }
        }
    }
    Ok(())
}
