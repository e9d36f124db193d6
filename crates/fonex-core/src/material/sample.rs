//! Drawing clips: samples that keep proportions, splits that keep speakers apart, and how many are needed.

use std::collections::BTreeMap;

use rand::seq::SliceRandom;
use thiserror::Error;

use crate::stats::stream;

/// Draws `count` of the clips so that each group keeps its share, by largest remainders. `groups` names each clip's group.
/// Gives places in `groups`, in order. The same seed gives the same clips.
#[must_use]
pub fn stratified(groups: &[String], count: usize, seed: u64) -> Vec<usize> {
    let mut members: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (at, group) in groups.iter().enumerate() {
        members.entry(group).or_default().push(at);
    }
    let count = count.min(groups.len());
    let exact = |size: usize| size as f64 * count as f64 / groups.len().max(1) as f64;
    let mut shares: Vec<(&str, usize, f64)> =
        members.iter().map(|(group, all)| (*group, exact(all.len()) as usize, exact(all.len()).fract())).collect();
    let mut open = count - shares.iter().map(|(_, share, _)| share).sum::<usize>();
    shares.sort_by(|a, b| b.2.total_cmp(&a.2).then_with(|| a.0.cmp(b.0)));
    for (_, share, _) in &mut shares {
        let more = usize::from(open > 0);
        *share += more;
        open -= more;
    }
    let mut drawn = Vec::with_capacity(count);
    for (group, share, _) in shares {
        let mut all = members[group].clone();
        all.shuffle(&mut stream(seed, &["stratified", group]));
        drawn.extend(all.into_iter().take(share));
    }
    drawn.sort_unstable();
    drawn
}

/// Why a split cannot be made.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SplitError {
    /// Fewer speakers than parts.
    #[error("{speakers} speakers cannot be split into {parts} parts without one being in two")]
    TooFewSpeakers {
        /// Speakers there are.
        speakers: usize,
        /// Parts asked for.
        parts: usize,
    },
}

/// Splits clips into parts of about the given shares so that no speaker is in two parts. Gives each clip's part.
///
/// Speakers are dealt from the one with the most clips down, each to the part that lacks the most.
///
/// # Errors
/// When there are fewer speakers than parts.
pub fn split_by_speaker(speakers: &[String], shares: &[f64], seed: u64) -> Result<Vec<usize>, SplitError> {
    let mut clips: BTreeMap<&str, usize> = BTreeMap::new();
    for speaker in speakers {
        *clips.entry(speaker).or_default() += 1;
    }
    if clips.len() < shares.len() {
        return Err(SplitError::TooFewSpeakers { speakers: clips.len(), parts: shares.len() });
    }
    let mut order: Vec<(&str, usize)> = clips.into_iter().collect();
    order.shuffle(&mut stream(seed, &["split"]));
    order.sort_by_key(|(_, clips)| std::cmp::Reverse(*clips));
    let whole: f64 = shares.iter().sum();
    let mut lacking: Vec<f64> = shares.iter().map(|share| share / whole * speakers.len() as f64).collect();
    let mut part_of: BTreeMap<&str, usize> = BTreeMap::new();
    let mut empty = shares.len();
    for (left, (speaker, clips)) in (0..order.len()).rev().zip(order) {
        // The last speakers go to parts that have none yet.
        let open = |part: usize| !part_of.values().any(|p| *p == part);
        let choice = (0..shares.len()).filter(|part| left >= empty || open(*part));
        let part = choice.max_by(|a, b| lacking[*a].total_cmp(&lacking[*b])).unwrap_or(0);
        empty -= usize::from(open(part));
        lacking[part] -= clips as f64;
        part_of.insert(speaker, part);
    }
    Ok(speakers.iter().map(|speaker| part_of[speaker.as_str()]).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(sizes: &[(&str, usize)]) -> Vec<String> {
        sizes.iter().flat_map(|(name, size)| vec![(*name).to_owned(); *size]).collect()
    }

    #[test]
    fn a_sample_keeps_the_shares() {
        let groups = names(&[("radio", 60), ("desk", 30), ("help", 10)]);
        let drawn = stratified(&groups, 20, 3);
        let of = |group: &str| drawn.iter().filter(|at| groups[**at] == group).count();
        assert_eq!((of("radio"), of("desk"), of("help")), (12, 6, 2));
        assert_eq!(drawn, stratified(&groups, 20, 3));
        assert_ne!(drawn, stratified(&groups, 20, 4));
        assert_eq!(stratified(&groups, 1_000, 3).len(), 100);
        assert!(stratified(&[], 5, 3).is_empty());
    }

    #[test]
    fn no_speaker_is_in_two_parts() {
        let speakers = names(&[("a", 30), ("b", 25), ("c", 20), ("d", 15), ("e", 10)]);
        for seed in 0..20 {
            let parts = split_by_speaker(&speakers, &[0.8, 0.2], seed).unwrap();
            for (one, part) in speakers.iter().zip(&parts) {
                assert!(speakers.iter().zip(&parts).filter(|(s, _)| *s == one).all(|(_, p)| p == part));
            }
            let second = parts.iter().filter(|part| **part == 1).count();
            assert!((10..=30).contains(&second), "{second}");
        }
        let every = split_by_speaker(&names(&[("a", 90), ("b", 1), ("c", 1)]), &[1.0, 1.0, 1.0], 1).unwrap();
        assert_eq!((0..3).filter(|part| every.contains(part)).count(), 3);
        assert!(split_by_speaker(&speakers[..40], &[1.0, 1.0, 1.0], 1).is_err());
    }
}
