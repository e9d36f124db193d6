//! What is wrong with the audio of an answer, whatever is said in it.

use std::f64::consts::TAU;

use serde::{Deserialize, Serialize};

use super::{Lowered, level_db, repeated_stretch};
use crate::audio::{Audio, Stretch, active_level_db};
use crate::stats::median;

/// A fault, with where it is or how strong.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Fault {
    /// Seconds from the beginning, of the first where there are several.
    pub at_s: f64,
    /// How many there are.
    pub count: u32,
}

/// The faults of one answer; what is left out was looked for and is not there.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default)]
pub struct Faults {
    /// Single pulses that belong to no sound around them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clicks: Option<Fault>,
    /// Gaps of nothing that begin and end abruptly within sound.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropouts: Option<Fault>,
    /// Level of a hum of 50 or 60 Hz and its multiples in the silences, in dBFS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hum_dbfs: Option<f64>,
    /// It begins in the middle of a sound.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub cut_beginning: bool,
    /// It ends in the middle of a sound.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub cut_end: bool,
    /// A stretch comes twice, sample by sample; where the second time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeated: Option<Fault>,
    /// Pauses inside that no speaker makes: two seconds and longer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub long_pauses: Option<Fault>,
    /// It has another rate than the engine was asked for: its own, in hertz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_rate_hz: Option<u32>,
    /// It came in another container than the engine was asked for.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub other_container: bool,
    /// There is nothing in it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub silent: bool,
    /// There is sound, and hardly any of it is voiced speech.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub not_speech: bool,
}

/// Below this nothing is heard.
const SILENT_DB: f64 = -80.0;
/// A pause that no speaker makes.
const LONG_PAUSE_S: f64 = 2.0;
/// Speech is voiced for 40 to 60 % of its time; of what is voiced for less than this nothing is understood.
const LEAST_VOICED: f64 = 0.12;

/// In which form sound was asked for; what is not said may be anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, schemars::JsonSchema)]
pub struct AskedSound {
    /// Samples a second.
    pub rate_hz: Option<u32>,
    /// `wav`, `flac` or `raw`.
    pub container: Option<&'static str>,
}

impl Faults {
    /// The same of an answer to a text, which has to hold something, and to have the form that was asked for. `came_as` is its container and
    /// codec.
    #[must_use]
    pub fn of_answer(self, audio: &Audio, asked: AskedSound, came_as: Option<&str>) -> Self {
        // The kind begins with the container: `wave/pcm_s16le`. Bare samples have none.
        let is_it = |asked: &str| came_as.is_none_or(|kind| kind.starts_with(asked));
        Self {
            other_rate_hz: asked.rate_hz.filter(|asked| *asked != audio.rate_hz).map(|_| audio.rate_hz),
            other_container: asked.container.is_some_and(|asked| !is_it(asked)),
            silent: level_db(&audio.samples) < SILENT_DB,
            ..self
        }
    }

    /// The faults by name.
    #[must_use]
    pub fn names(&self) -> Vec<&'static str> {
        let all = [
            (self.clicks.is_some(), "clicks"),
            (self.dropouts.is_some(), "dropouts"),
            (self.hum_dbfs.is_some(), "hum"),
            (self.cut_beginning, "cut beginning"),
            (self.cut_end, "cut end"),
            (self.repeated.is_some(), "repeated stretch"),
            (self.long_pauses.is_some(), "long pause"),
            (self.not_speech, "not speech"),
            (self.other_rate_hz.is_some(), "other rate"),
            (self.other_container, "other container"),
            (self.silent, "silent"),
        ];
        all.iter().filter(|(there, _)| *there).map(|(_, name)| *name).collect()
    }
}

/// Looks for every fault of a piece of sound that can be found in it alone. `ground_dbfs` is its noise floor.
#[must_use]
pub(super) fn faults(audio: &Audio, lowered: Option<Lowered>, ground_dbfs: Option<f64>) -> Faults {
    let Some(active_db) = active_level_db(audio) else { return Faults::default() };
    // As loud as the speech, and not because the background is.
    let ground_db = ground_dbfs.unwrap_or(-120.0);
    let is_cut = |samples: &[f32]| level_db(samples) > (active_db + CUT_DB).max(ground_db + OVER_GROUND_DB);
    let edge = audio.samples_in(0.010).min(audio.samples.len());
    let (hum_dbfs, repeated) = lowered.map_or((None, None), |Lowered { for_hum, for_repeats, .. }| {
        (hum(&for_hum, active_db), repeated_stretch(audio, for_repeats))
    });
    Faults {
        clicks: clicks(audio),
        dropouts: dropouts(audio, active_db),
        hum_dbfs,
        cut_beginning: is_cut(&audio.samples[..edge]),
        cut_end: is_cut(&audio.samples[audio.samples.len() - edge..]),
        repeated: repeated.map(|stretch| Fault { at_s: stretch.start, count: 1 }),
        ..Faults::default()
    }
}

impl Faults {
    /// Takes in those of the piece that follows, which begins at `at_s`.
    pub(super) fn followed_by(self, next: Self, at_s: f64) -> Self {
        let both = |first: Option<Fault>, next: Option<Fault>| match (first, next) {
            (Some(first), Some(next)) => Some(Fault { count: first.count + next.count, ..first }),
            (first, next) => first.or(next.map(|fault| Fault { at_s: fault.at_s + at_s, ..fault })),
        };
        Self {
            clicks: both(self.clicks, next.clicks),
            dropouts: both(self.dropouts, next.dropouts),
            hum_dbfs: self.hum_dbfs.into_iter().chain(next.hum_dbfs).max_by(f64::total_cmp),
            cut_end: next.cut_end,
            repeated: both(self.repeated, next.repeated),
            ..self
        }
    }

    /// With what only the whole shows: pauses inside the speech that are too long, and `sounding_s` of which `voiced_s` are voiced.
    pub(super) fn of_whole(self, pauses: &[Stretch], sounding_s: f64, voiced_s: f64) -> Self {
        let long: Vec<&Stretch> = pauses.iter().filter(|pause| pause.end - pause.start >= LONG_PAUSE_S).collect();
        Self {
            long_pauses: long.first().map(|first| Fault { at_s: first.start, count: long.len() as u32 }),
            not_speech: sounding_s > 0.3 && voiced_s < LEAST_VOICED * sounding_s,
            ..self
        }
    }
}

/// The first and the last hundredth of a second are as loud as this relative to the speech when it was cut.
const CUT_DB: f64 = -12.0;
/// And stand this far out of the background.
const OVER_GROUND_DB: f64 = 12.0;

/// A pulse is a click when it is this many times as high as everything around it, but for itself. The pulses of a voice come
/// again after 2 to 16 ms, and the burst of a consonant continues.
const CLICK_OVER: f32 = 5.0;
const CLICK_AROUND_S: f64 = 0.020;
const CLICK_ITSELF_S: f64 = 0.001;
/// And no fainter than this, as a difference of samples: half of -40 dBFS.
const CLICK_LEAST: f32 = 0.005;

/// Single pulses, found in the second difference of the samples, which leaves little of speech (after Godsill and
/// Rayner, "Digital audio
/// restoration", 1998, chapter 5, with a fixed predictor).
fn clicks(audio: &Audio) -> Option<Fault> {
    let (around, own) = (audio.samples_in(CLICK_AROUND_S), audio.samples_in(CLICK_ITSELF_S));
    // The highest of each block, so that most samples are looked at once.
    let block = own.max(1);
    let places = audio.samples.len().saturating_sub(2);
    let top = |start: usize| roughest(&audio.samples[start..(start + block + 2).min(audio.samples.len())]);
    let tops: Vec<f32> = (0..places).step_by(block).map(top).collect();
    let blocks = around.div_ceil(block);
    let mut found: Option<Fault> = None;
    let mut last = None;
    for (at, top) in tops.iter().copied().enumerate() {
        if top < CLICK_LEAST {
            continue;
        }
        let before = tops[at.saturating_sub(blocks)..at.saturating_sub(1)].iter();
        let after = tops[(at + 2).min(tops.len())..(at + 2 + blocks).min(tops.len())].iter();
        let near = tops[at.saturating_sub(1)].max(tops.get(at + 1).copied().unwrap_or(0.0));
        let loudest = before.chain(after).copied().fold(0.0, f32::max);
        // It may lie on the border of two blocks; the higher one is it.
        let first_of_two = last.is_none_or(|last| at > last + 2);
        if top > CLICK_OVER * loudest.max(1e-4) && top >= near && first_of_two {
            last = Some(at);
            let at_s = (at * block) as f64 / f64::from(audio.rate_hz);
            found = Some(found.map_or(Fault { at_s, count: 1 }, |fault| Fault { count: fault.count + 1, ..fault }));
        }
    }
    found
}

/// The highest second difference, in strands that the processor takes side by side.
fn roughest(samples: &[f32]) -> f32 {
    const STRANDS: usize = 8;
    let mut tops = [0.0_f32; STRANDS];
    let mut left = samples;
    while let Some(some) = left.first_chunk::<{ STRANDS + 2 }>() {
        for at in 0..STRANDS {
            let rough = (some[at] - 2.0 * some[at + 1] + some[at + 2]).abs();
            if rough > tops[at] {
                tops[at] = rough;
            }
        }
        left = &left[STRANDS..];
    }
    let rest = left.windows(3).map(|s| (s[0] - 2.0 * s[1] + s[2]).abs());
    rest.chain(tops).fold(0.0, f32::max)
}

/// A gap is nothing: below this.
const GAP_LEVEL: f32 = 1.5e-4;
const GAP_S: std::ops::Range<f64> = 0.004..0.5;
/// What lies right before and right behind it is as loud as this relative to the speech.
const GAP_EDGE_DB: f64 = -10.0;
/// And the last and the first thousandth of a second like this: what fades in or out is quieter there.
const GAP_SHARP_DB: f64 = -14.0;

/// Gaps of nothing whose edges are loud: sound that was lost. A voice that falls silent fades first.
fn dropouts(audio: &Audio, active_db: f64) -> Option<Fault> {
    let (edge, sharp) = (audio.samples_in(0.004), audio.samples_in(0.001));
    let lengths = audio.samples_in(GAP_S.start)..audio.samples_in(GAP_S.end);
    let samples = &audio.samples;
    let over = |part: &[f32]| level_db(part) - active_db;
    let loud = |near: &[f32], next: &[f32]| over(near) > GAP_EDGE_DB && over(next) > GAP_SHARP_DB;
    let mut found: Option<Fault> = None;
    let mut at = 0;
    for run in samples.chunk_by(|a, b| (a.abs() < GAP_LEVEL) == (b.abs() < GAP_LEVEL)) {
        let (start, end) = (at, at + run.len());
        at = end;
        let gap = run[0].abs() < GAP_LEVEL && lengths.contains(&run.len());
        let inside = start >= edge && end + edge <= samples.len();
        if gap
            && inside
            && loud(&samples[start - edge..start], &samples[start - sharp..start])
            && loud(&samples[end..end + edge], &samples[end..end + sharp])
        {
            let at_s = start as f64 / f64::from(audio.rate_hz);
            found = Some(found.map_or(Fault { at_s, count: 1 }, |fault| Fault { count: fault.count + 1, ..fault }));
        }
    }
    found
}

/// Seconds in which hum is looked for at once, in silence.
const HUM_WINDOW_S: f64 = 0.2;
/// The rate at which it is looked for.
pub(super) const HUM_RATE_HZ: u32 = 2_000;
/// A line stands this far over what lies on both sides of it.
const HUM_OVER_DB: f64 = 12.0;
/// Silence is this far below the speech.
const HUM_BELOW_DB: f64 = 18.0;

/// Mains hum in the silences: at least two of the first four multiples of 50 or 60 Hz stand out in the median of all
/// silent windows.
/// Without a silence of a fifth of a second nothing can be said. `low` is the sound at [`HUM_RATE_HZ`].
fn hum(low: &Audio, active_db: f64) -> Option<f64> {
    let (samples, size) = (&low.samples, low.samples_in(HUM_WINDOW_S));
    let loudness = |window: &&[f32]| level_db(window) < active_db - HUM_BELOW_DB;
    let windows: Vec<&[f32]> = samples.windows(size).step_by(size / 2).filter(loudness).collect();
    if windows.is_empty() {
        return None;
    }
    // The level of a line in dBFS: all that are looked at are multiples of the 5 Hz that lie between two coefficients of a window.
    let transform = fonex_signal::forward(size);
    let hann: Vec<f64> = (0..size).map(|i| 0.5 - 0.5 * (TAU * i as f64 / size as f64).cos()).collect();
    let (mut weighted, mut spectrum) = (transform.make_input_vec(), transform.make_output_vec());
    let mut levels = vec![Vec::with_capacity(windows.len()); spectrum.len()];
    for window in &windows {
        for at in 0..size {
            weighted[at] = (f64::from(window[at]) * hann[at]) as f32;
        }
        transform.process(&mut weighted, &mut spectrum).expect("buffers have the planned sizes");
        for (levels, line) in levels.iter_mut().zip(&spectrum) {
            // A tone of amplitude 1 comes to size / 4.
            let amplitude = f64::from(line.norm()) * 4.0 / size as f64;
            levels.push(20.0 * (amplitude / std::f64::consts::SQRT_2).max(1e-6).log10());
        }
    }
    let level = |hz: f64| median(&levels[(hz * HUM_WINDOW_S).round() as usize]).unwrap_or(-120.0);
    [50.0, 60.0]
        .iter()
        .filter_map(|mains| {
            let between: Vec<f64> = (0..=4).map(|n| level(mains * (f64::from(n) + 0.5))).collect();
            let stands_out = |n: usize| {
                let line = level(mains * (n + 1) as f64);
                (line - between[n].max(between[n + 1]) > HUM_OVER_DB && line > -80.0).then_some(line)
            };
            let out: Vec<f64> = (0..4).filter_map(stands_out).collect();
            let strongest = out.iter().copied().fold(f64::MIN, f64::max);
            (out.len() >= 2).then_some(strongest)
        })
        .max_by(f64::total_cmp)
}
