//! What a corpus can tell at all, said before anything is run on it.

use std::collections::BTreeMap;

use fonex_core::Clip;
use fonex_core::text::{Label, TextProfile};
use fonex_core::verdict::least_difference;

use crate::output::{percent, plural};

/// The error rate that differences are detected around, for want of one measured.
const RATE: f64 = 0.1;

/// The least difference between two error rates that these clips would tell, in a sentence; empty where they have no words.
pub fn least_difference_in_words(clips: &[&Clip], profile: &TextProfile) -> String {
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
    let several = by_speaker.values().any(|clips| clips.len() > 1);
    groups.extend(by_speaker.into_values());
    let Some(least) = least_difference(&groups, RATE) else { return String::new() };
    let whom = if several {
        format!("drawn by speaker, {}", plural(groups.len() as u64, "unit"))
    } else {
        plural(groups.len() as u64, "clip")
    };
    format!(
        "These clips ({whom}) can detect a difference of {:.1} points between two error rates near {} with 80 % power.\n",
        least * 100.0,
        percent(Some(RATE))
    )
}
