//! Every measure, by theme; what several themes share.

mod audio;
mod cost;
mod faults;
mod latency;
mod live;
mod outcomes;
mod playback;
mod rates;
mod replies;
mod terms;
mod times;
mod voice;
mod words;

use super::{Estimator, Measure, Trial};
use crate::latency::{Playback, play, sound_pieces};

/// The themes, in the order tables print them.
const THEMES: &[&[Measure]] = &[
    rates::ALL,
    terms::ALL,
    words::ALL,
    times::ALL,
    latency::ALL,
    live::ALL,
    outcomes::ALL,
    cost::ALL,
    playback::ALL,
    audio::ALL,
    voice::ALL,
    faults::ALL,
    replies::ALL,
];

/// Every measure, in the order tables print them.
pub static ALL: &[&Measure] = &all();

const COUNT: usize = {
    let (mut count, mut theme) = (0, 0);
    while theme < THEMES.len() {
        count += THEMES[theme].len();
        theme += 1;
    }
    count
};

const fn all() -> [&'static Measure; COUNT] {
    let mut all = [&THEMES[0][0]; COUNT];
    let (mut theme, mut at, mut next) = (0, 0, 0);
    while next < COUNT {
        if at < THEMES[theme].len() {
            all[next] = &THEMES[theme][at];
            (at, next) = (at + 1, next + 1);
        } else {
            (theme, at) = (theme + 1, 0);
        }
    }
    all
}

/// How a spoken answer would have played; none where it did not come in pieces.
fn playback(trial: &Trial<'_>) -> Option<Playback> {
    trial.spoken?;
    let arrivals: Vec<(f64, u32)> = trial.traffic?.arrivals.iter().collect();
    let pieces = sound_pieces(arrivals.into_iter(), trial.audio_s?);
    if pieces.len() < 2 { None } else { play(&pieces) }
}

fn yes(holds: bool) -> f64 {
    f64::from(u8::from(holds))
}

/// Found, missed and invented, where there is any.
fn counts(counts: Option<[u64; 3]>, row: &mut Vec<f64>) {
    row.extend(counts.filter(|counts| counts.iter().any(|n| *n > 0)).iter().flatten().map(|n| *n as f64));
}

/// The share of the rows of which something holds: 1 where it does.
const fn share_of(part: fn(&[f64]) -> f64) -> Estimator {
    Estimator::Ratio { part, whole: |_| 1.0, bounds: (0.0, 1.0), most: 1.0 }
}

/// What is wrong over what was said; there can be more wrong than was said.
const fn rate(part: fn(&[f64]) -> f64, whole: fn(&[f64]) -> f64) -> Estimator {
    Estimator::Ratio { part, whole, bounds: (0.0, 1.0), most: f64::INFINITY }
}
