//! What a corpus can tell at all, said before anything is run on it.

use std::collections::BTreeMap;

use fonex_core::Clip;
use fonex_core::Task;
use fonex_core::measures::{Withheld, all};
use fonex_core::text::{Label, TextProfile};
use fonex_core::verdict::{Planned, clips_needed, least_difference};

use crate::output::{percent, plural};

/// The error rate that differences are detected around, for want of one measured.
const RATE: f64 = 0.1;

/// The pairs to plan for without a plan: two recognisers.
pub const ONE_PAIR: usize = 1;

/// The number of default questions of `compare` about `pairs` pairs of recognisers, over all clips.
fn questions(pairs: usize) -> usize {
    // Live times need a live engine.
    let asked = all().filter(|measure| measure.asked && !measure.rare && !measure.id.starts_with("live_"));
    pairs.max(1) * asked.filter(|measure| measure.tasks.contains(&Task::Hear)).count().max(1)
}

/// The least difference between two error rates that these clips would detect, in a sentence; empty where they have no words.
pub fn least_difference_in_words(clips: &[&Clip], profile: &TextProfile, pairs: usize) -> String {
    let groups = units(clips, profile);
    let planned = Planned { groups: &groups, rate: RATE, questions: questions(pairs) };
    let Some(least) = least_difference(planned) else { return String::new() };
    let whom = if groups.len() < clips.len() {
        format!("{} of {}", plural(clips.len() as u64, "clip"), plural(groups.len() as u64, "speaker"))
    } else {
        plural(clips.len() as u64, "clip")
    };
    let among = if pairs > 1 { format!(" when {pairs} pairs are compared in one call") } else { String::new() };
    format!(
        "{whom} can detect a difference of {:.1} points between two error rates near {} with 80 % power{among}.\n",
        least * 100.0,
        percent(Some(RATE))
    )
}

/// How many clips like these would detect smaller differences, by the same reckoning; empty where they have no words.
pub fn clips_needed_in_words(clips: &[&Clip], profile: &TextProfile) -> String {
    let groups = units(clips, profile);
    let needed = [5.0, 2.0, 1.0].into_iter().filter_map(|points| {
        let planned = Planned { groups: &groups, rate: RATE, questions: questions(ONE_PAIR) };
        let clips = clips_needed(planned, points / 100.0)?;
        Some(format!("{} for {points} {}", plural(clips, "clip"), if points == 1.0 { "point" } else { "points" }))
    });
    let needed: Vec<String> = needed.collect();
    if needed.is_empty() { String::new() } else { format!("To detect less: {}.\n", needed.join(", ")) }
}

/// The words of each unit's clips: speakers where they have several clips and are enough for a verdict, else clips.
fn units(clips: &[&Clip], profile: &TextProfile) -> Vec<Vec<u64>> {
    let mut by_speaker: BTreeMap<&str, Vec<u64>> = BTreeMap::new();
    let mut groups: Vec<Vec<u64>> = Vec::new();
    for clip in clips {
        let Ok(label) = Label::parse(&clip.text) else { continue };
        let words = profile.tokens(&label.first_reading()).len() as u64;
        match &clip.speaker {
            Some(speaker) => by_speaker.entry(speaker).or_default().push(words),
            None => groups.push(vec![words]),
        }
    }
    groups.extend(by_speaker.into_values());
    if (groups.len() as u64) < Withheld::LEAST_GROUPS {
        return groups.into_iter().flatten().map(|words| vec![words]).collect();
    }
    groups
}
