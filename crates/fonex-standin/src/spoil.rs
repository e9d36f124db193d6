//! Faults planted into the audio of a stand-in voice.

use std::f32::consts::TAU;

use fonex_core::audio::Audio;
use fonex_core::stats::Stream;
use rand::RngExt;
use serde::{Deserialize, Serialize};

/// A fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Spoiling {
    /// Single pulses.
    Clicks,
    /// A gap of nothing in the middle of sound.
    Dropout,
    /// Mains hum.
    Hum,
    /// The end is cut off.
    CutEnd,
    /// A stretch comes twice.
    Repeat,
    /// All but the first quarter is left out.
    Skip,
    /// The whole is spoken twice.
    RunOn,
    /// Three seconds of silence in the middle.
    LongPause,
}

/// Plants a fault. What is shorter than half a second is left alone.
pub(crate) fn spoil(audio: &mut Audio, fault: Spoiling, random: &mut Stream) {
    let rate = audio.rate_hz as usize;
    let samples = &mut audio.samples;
    if samples.len() < rate / 2 {
        return;
    }
    // The loudest place around the middle, where a gap is heard.
    let (from, to) = (samples.len() / 3, samples.len() * 2 / 3);
    let loudest = (from..to).max_by(|a, b| samples[*a].abs().total_cmp(&samples[*b].abs())).unwrap_or(from);
    match fault {
        Spoiling::Clicks => {
            for _ in 0..3 {
                let at = random.random_range(rate / 20..samples.len() - rate / 20);
                samples[at] = if samples[at] > 0.0 { -0.95 } else { 0.95 };
            }
        }
        Spoiling::Dropout => {
            // It ends where it is loud again: what falls silent by itself is no dropout.
            let after =
                |end: usize| samples[end..(end + rate / 250).min(samples.len())].iter().map(|s| s * s).sum::<f32>();
            let ends = loudest + rate / 50..(loudest + rate / 8).min(samples.len());
            let end = ends.max_by(|a, b| after(*a).total_cmp(&after(*b))).unwrap_or(loudest);
            samples[loudest..end].fill(0.0);
        }
        Spoiling::Hum => {
            for (at, sample) in samples.iter_mut().enumerate() {
                let turn = TAU * 50.0 * at as f32 / rate as f32;
                *sample = (*sample + 0.01 * (turn.sin() + 0.7 * (3.0 * turn).sin())).clamp(-1.0, 1.0);
            }
        }
        Spoiling::CutEnd => samples.truncate(loudest.max(1)),
        Spoiling::Repeat => {
            let end = (loudest + rate * 4 / 5).min(samples.len());
            let again = samples[loudest..end].to_vec();
            samples.splice(end..end, again);
        }
        Spoiling::Skip => {
            let end = (samples.len() - rate / 20).max(samples.len() / 4);
            samples.drain(samples.len() / 4..end);
        }
        Spoiling::RunOn => {
            let again = samples.clone();
            samples.extend(again);
        }
        Spoiling::LongPause => {
            let quiet = (from..to).min_by(|a, b| samples[*a].abs().total_cmp(&samples[*b].abs())).unwrap_or(from);
            samples.splice(quiet..quiet, std::iter::repeat_n(0.0, 3 * rate));
        }
    }
}
