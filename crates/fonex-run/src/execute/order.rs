//! In which order the trials of a run are made.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use fonex_store::TrialKey;

use super::material::Material;
use super::trial::Heardable;
use crate::bench::Plan;

/// Trials that one worker makes one after the other: a voice speaks, and then recognisers hear it.
pub(crate) type Group = Vec<TrialKey>;

/// The trials that are not done, in the order of execution: warm-up first, then repeat by repeat, the variants taking turns
/// clip by clip so that a slow minute of the machine hits them alike.
///
/// Every variant that has timed trials left is warmed up again: after an interruption its programs and connections are cold
/// again. There are as many warm-up trials as trials at a time, if there are any, so that each program and connection gets
/// one.
pub(crate) fn left_to_do(plan: &Plan, material: &Material, done: &HashSet<TrialKey>) -> Vec<Group> {
    let mut hearers: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for (at, variant) in plan.variants.iter().enumerate() {
        hearers.entry(variant.hears.unwrap_or(at)).or_default().extend(variant.hears.map(|_| at));
    }
    let group = |first: usize, clip: &Heardable, repeat: u32, warm_up: bool| -> Group {
        let clip_id = clip.clip.id.clone();
        std::iter::once(first)
            .chain(hearers.get(&first).into_iter().flatten().copied())
            .map(|variant| TrialKey { variant, clip_id: clip_id.clone(), repeat, warm_up })
            .filter(|key| !done.contains(key))
            .collect()
    };
    let firsts: Vec<usize> = (0..plan.variants.len()).filter(|at| plan.variants[*at].hears.is_none()).collect();
    let (mut timed, mut waiting) = (Vec::new(), BTreeSet::new());
    for repeat in 0..plan.repeats {
        for clip in &material.usable {
            for first in &firsts {
                let group = group(*first, clip, repeat, false);
                if !group.is_empty() {
                    waiting.insert(*first);
                    timed.push(group);
                }
            }
        }
    }
    let each = if plan.warm_up == 0 { 0 } else { plan.warm_up.max(plan.concurrency) };
    let warm = waiting.into_iter().flat_map(|first| {
        let earlier = done.iter().filter(|key| key.warm_up && key.variant == first);
        let next = earlier.map(|key| key.repeat + 1).max().unwrap_or(0);
        let clips = material.usable.iter().cycle();
        (next..next + each).zip(clips).map(move |(repeat, clip)| group(first, clip, repeat, true))
    });
    let mut all: Vec<Group> = warm.collect();
    all.extend(timed);
    all
}
