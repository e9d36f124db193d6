//! Whether sound that arrives in pieces would have stuttered if it had been played as it came.

use serde::{Deserialize, Serialize};

use super::Percentiles;

/// How one spoken answer would have played.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Playback {
    /// Milliseconds until the first sound could be played.
    pub first_ms: f64,
    /// Interruptions, when playing begins with the first sound.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stalls: Vec<Stall>,
    /// Milliseconds of silence in all of them.
    pub stalled_ms: f64,
    /// How much longer the player would have had to wait before it began, to play without an interruption, in
    /// milliseconds.
    pub needed_wait_ms: f64,
}

/// One interruption.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Stall {
    /// Where in the sound, in seconds.
    pub at_s: f64,
    /// For how long, in milliseconds.
    pub ms: f64,
}

/// Interruptions shorter than this are within what a player's own buffer swallows.
const LEAST_STALL_MS: f64 = 1.0;

/// Plays sound that arrived in pieces: each piece has the moment it was there, in milliseconds, and its length in seconds.
/// None without sound. Cost is linear in the pieces.
#[must_use]
pub fn play(pieces: &[(f64, f64)]) -> Option<Playback> {
    let pieces: Vec<(f64, f64)> = pieces.iter().copied().filter(|(_, length_s)| *length_s > 0.0).collect();
    let (first_ms, _) = *pieces.first()?;
    let mut playback = Playback { first_ms, ..Playback::default() };
    // The moment at which all that came so far is played out, and how much that is.
    let (mut empty_at_ms, mut played_s) = (first_ms, 0.0);
    for (at_ms, length_s) in pieces {
        let wait_ms = at_ms - empty_at_ms;
        if wait_ms > LEAST_STALL_MS {
            playback.stalls.push(Stall { at_s: played_s, ms: wait_ms });
            playback.stalled_ms += wait_ms;
        }
        playback.needed_wait_ms = playback.needed_wait_ms.max(at_ms - first_ms - played_s * 1e3);
        empty_at_ms = empty_at_ms.max(at_ms) + length_s * 1e3;
        played_s += length_s;
    }
    Some(playback)
}

/// Pieces of sound from pieces of bytes: each has its share of the sound's length.
pub fn sound_pieces(arrivals: impl Iterator<Item = (f64, u32)> + Clone, audio_s: f64) -> Vec<(f64, f64)> {
    let bytes: f64 = arrivals.clone().map(|(_, bytes)| f64::from(bytes)).sum();
    arrivals
        .map(|(at_ms, piece)| (at_ms, if bytes > 0.0 { f64::from(piece) / bytes * audio_s } else { 0.0 }))
        .collect()
}

/// How the spoken answers of a set would have played.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PlaybackReport {
    /// Answers that came in pieces.
    pub clips: u64,
    /// Answers that would have been interrupted.
    pub stalled_clips: u64,
    /// Interruptions in all.
    pub stalls: u64,
    /// Silence of the interrupted answers, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stalled_ms: Option<Percentiles>,
    /// The wait before playing that would have kept all but one in twenty answers from being interrupted, in milliseconds.
    pub wait_for_95_ms: f64,
    /// The same for every answer.
    pub wait_for_all_ms: f64,
}

impl PlaybackReport {
    /// None without answers.
    #[must_use]
    pub fn of(played: &[Playback]) -> Option<Self> {
        let waits: Vec<f64> = played.iter().map(|one| one.needed_wait_ms).collect();
        let waits = Percentiles::of(&waits)?;
        let stalled: Vec<f64> = played.iter().filter(|p| !p.stalls.is_empty()).map(|p| p.stalled_ms).collect();
        Some(Self {
            clips: waits.count,
            stalled_clips: stalled.len() as u64,
            stalls: played.iter().map(|one| one.stalls.len() as u64).sum(),
            stalled_ms: Percentiles::of(&stalled),
            wait_for_95_ms: waits.p95,
            wait_for_all_ms: waits.max,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Plays millisecond by millisecond: gives the silence after the start, and how many stretches of it there are.
    fn simulated(pieces: &[(u32, u32)], wait_ms: u32) -> (u32, u32) {
        let whole: u32 = pieces.iter().map(|(_, length)| length).sum();
        let start = pieces[0].0 + wait_ms;
        let (mut now, mut played, mut silent, mut stretches, mut was_silent) = (start, 0, 0, 0, false);
        while played < whole {
            let there: u32 = pieces.iter().filter(|(at, _)| *at <= now).map(|(_, length)| length).sum();
            if there > played {
                played += 1;
                was_silent = false;
            } else {
                silent += 1;
                stretches += u32::from(!was_silent);
                was_silent = true;
            }
            now += 1;
        }
        (silent, stretches)
    }

    proptest! {
        #[test]
        fn stalls_are_those_of_a_simulated_player(gaps in prop::collection::vec((0_u32..90, 1_u32..80), 1..25)) {
            let mut at = 0;
            let pieces: Vec<(u32, u32)> = gaps.iter().map(|(gap, length)| { at += gap; (at, *length) }).collect();
            let played = play(&pieces.iter().map(|(at, n)| (f64::from(*at), f64::from(*n) / 1e3)).collect::<Vec<_>>()).unwrap();
            let (silent, stretches) = simulated(&pieces, 0);
            // A stall of a millisecond is none for us, and one for the simulation.
            prop_assert!(played.stalled_ms <= f64::from(silent) + 1e-6);
            prop_assert!(f64::from(silent) - played.stalled_ms <= f64::from(stretches - played.stalls.len() as u32) + 1e-6);
            let wait = (played.needed_wait_ms - 1e-6).ceil().max(0.0) as u32;
            prop_assert_eq!(simulated(&pieces, wait).0, 0);
            if wait > 0 {
                prop_assert!(simulated(&pieces, wait - 1).0 > 0);
            }
        }
    }
}
