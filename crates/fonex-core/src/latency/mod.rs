//! How long answers took. A latency is never given as a mean alone.

mod interruptions;
mod live;
mod load;
mod playback;
mod traffic;
mod turns;
mod windows;

use serde::{Deserialize, Serialize};

pub use interruptions::{Interruption, InterruptionReport};
pub use live::{LiveBuilder, LiveClip, LiveEvent, LiveLog, LiveReport, LiveWhat, Pacing, PauseBand, measure_live};
pub use load::{LoadCall, LoadForm, LoadReport, LoadStep};
pub use playback::{Playback, PlaybackReport, Stall, play, sound_pieces};
pub use traffic::{Arrivals, Request, ServiceTime, Traffic, server_timing};
pub use turns::{Link, Position, SpeechEnd, Turn, TurnReport};
pub use windows::window_delays;

use crate::stats::quantile_sorted;

/// A length of this many seconds, as far as a clock can show it: from nothing to the longest wait there is, eleven days. Negative seconds and
/// what is no number are nothing.
#[must_use]
#[allow(clippy::disallowed_methods)]
pub fn span(seconds: f64) -> std::time::Duration {
    const LONGEST_S: f64 = 1e6;
    std::time::Duration::from_secs_f64(seconds.clamp(0.0, LONGEST_S).max(0.0))
}

/// Percentiles of raw samples, by linear interpolation between order statistics.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Percentiles {
    /// Samples the percentiles stand on.
    pub count: u64,
    /// Median.
    pub p50: f64,
    /// 90th percentile.
    pub p90: f64,
    /// 95th percentile.
    pub p95: f64,
    /// 99th percentile; with fewer than 100 samples it lies next to the largest.
    pub p99: f64,
    /// The largest sample.
    pub max: f64,
}

impl Percentiles {
    /// None without samples.
    #[must_use]
    pub fn of(samples: &[f64]) -> Option<Self> {
        let mut sorted = samples.to_vec();
        sorted.sort_unstable_by(f64::total_cmp);
        let at = |q| quantile_sorted(&sorted, q);
        Some(Self {
            count: sorted.len() as u64,
            p50: at(0.5)?,
            p90: at(0.9)?,
            p95: at(0.95)?,
            p99: at(0.99)?,
            max: at(1.0)?,
        })
    }
}

/// Real-time factor: time taken for each second of audio, below 1 is faster than the audio plays. None for no audio.
#[must_use]
pub fn real_time_factor(took_s: f64, audio_s: f64) -> Option<f64> {
    (audio_s > 0.0).then(|| took_s / audio_s)
}
