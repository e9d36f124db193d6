//! How audio reaches a recogniser: whole, in fixed windows, or cut at silence.

use std::fmt;

use fonex_core::audio::{Audio, PauseRule, cut_at_pauses};
use fonex_core::text::{HeardPiece, join_pieces};
use fonex_core::{Heard, Outcome};
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};

use crate::{Answer, Engine, HearRequest, Live, Measured, Pace, heard_answer};

/// How audio reaches a recogniser.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
pub enum Delivery {
    /// In one request.
    #[default]
    Whole,
    /// In windows of a fixed length that may overlap.
    Pieces {
        /// Seconds of a window.
        window_s: f64,
        /// Seconds by which a window reaches back into the one before.
        #[serde(default)]
        overlap_s: f64,
    },
    /// Frame by frame, as a microphone gives it.
    Live(Pace),
    /// Cut where nobody speaks.
    Pauses {
        /// Seconds of silence that make a pause.
        #[serde(default = "third_of_a_second")]
        pause_s: f64,
        /// The longest piece in seconds; a piece without a pause is cut there.
        #[serde(default = "half_a_minute")]
        longest_s: f64,
    },
}

const fn third_of_a_second() -> f64 {
    0.3
}

const fn half_a_minute() -> f64 {
    30.0
}

impl fmt::Display for Delivery {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Whole => f.write_str("whole"),
            Self::Pieces { window_s, overlap_s } if *overlap_s > 0.0 => write!(f, "pieces={window_s}s-{overlap_s}s"),
            Self::Pieces { window_s, .. } => write!(f, "pieces={window_s}s"),
            Self::Pauses { pause_s, .. } => write!(f, "pauses={pause_s}s"),
            Self::Live(pace) if pace.speed == 1.0 => f.write_str("live"),
            Self::Live(pace) => write!(f, "live={}x", pace.speed),
        }
    }
}

impl Delivery {
    /// Checks the lengths.
    ///
    /// # Errors
    /// A [`Problem`] at `place`.
    pub fn check(&self, place: &dyn Fn() -> Place) -> Result<(), Problem> {
        let (fits, expected) = match *self {
            Self::Whole => (true, ""),
            Self::Live(pace) => return pace.check(place),
            Self::Pieces { window_s, overlap_s } => (
                (0.1..=1e5).contains(&window_s) && (0.0..=window_s * 0.9).contains(&overlap_s),
                "a window of 0.1 s or more and an overlap below nine tenths of it",
            ),
            Self::Pauses { pause_s, longest_s } => (
                pause_s >= 0.05 && (0.5..=1e5).contains(&longest_s) && pause_s <= longest_s,
                "a pause of 0.05 s or more and a longest piece of 0.5 s or more",
            ),
        };
        if fits { Ok(()) } else { Err(Problem::new("these lengths cannot be cut by", place()).expected(expected)) }
    }

    /// Reads what [`fmt::Display`] writes; what is not in it is taken as it is by default.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let seconds = |text: &str| text.strip_suffix('s')?.parse::<f64>().ok();
        match text.split_once('=') {
            None if text == "whole" => Some(Self::Whole),
            None if text == "live" => Some(Self::Live(Pace::default())),
            Some(("pieces", lengths)) => {
                let (window, overlap) = lengths.split_once('-').unwrap_or((lengths, "0s"));
                Some(Self::Pieces { window_s: seconds(window)?, overlap_s: seconds(overlap)? })
            }
            Some(("pauses", pause)) => Some(Self::Pauses { pause_s: seconds(pause)?, longest_s: half_a_minute() }),
            Some(("live", speed)) => {
                Some(Self::Live(Pace { speed: speed.strip_suffix('x')?.parse().ok()?, ..Pace::default() }))
            }
            _ => None,
        }
    }

    /// The stretches of a clip, in seconds. Always at least one.
    #[must_use]
    pub fn stretches(&self, audio: &Audio) -> Vec<(f64, f64)> {
        let all_s = audio.duration_s();
        let stretches = match *self {
            Self::Whole | Self::Live(_) => Vec::new(),
            Self::Pieces { window_s, overlap_s } => {
                let starts = std::iter::successors(Some(0.0), |start| Some(start + window_s - overlap_s));
                // A last window that lies whole inside the one before would only repeat it.
                starts
                    .take_while(|start| *start == 0.0 || start + overlap_s < all_s - 1e-6)
                    .map(|start| (start, (start + window_s).min(all_s)))
                    .collect()
            }
            Self::Pauses { pause_s, longest_s } => {
                let rule = PauseRule { least_pause_s: pause_s, longest_piece_s: longest_s, ..PauseRule::default() };
                cut_at_pauses(audio, &rule).into_iter().map(|stretch| (stretch.start, stretch.end)).collect()
            }
        };
        if stretches.is_empty() { vec![(0.0, all_s)] } else { stretches }
    }

    /// In how many pieces a clip is sent.
    #[must_use]
    pub fn pieces(&self, audio: &Audio) -> usize {
        self.stretches(audio).len()
    }

    /// Has a clip heard in this way. The pieces go one after the other; the first that fails ends the clip.
    pub fn hear(&self, engine: &dyn Engine, request: &HearRequest<'_>) -> Answer<Heard> {
        if *self == Self::Whole {
            return engine.hear(request);
        }
        if let Self::Live(pace) = self {
            if !engine.takes_live() {
                let why = "this engine takes no live audio; a socket does, and a worker with live = true";
                return Answer::failed(Outcome::Refused, why);
            }
            let live = Live { pace: *pace, ..request.live.unwrap_or(Live::paced(*pace)) };
            return engine.hear(&HearRequest { live: Some(live), ..*request });
        }
        let rate = f64::from(request.audio.rate_hz);
        let mut measured = Measured::default();
        let mut pieces = Vec::new();
        let stretches = self.stretches(request.audio);
        for (start_s, end_s) in &stretches {
            let samples = &request.audio.samples;
            let [from, to] = [start_s, end_s].map(|s| ((s * rate).round() as usize).min(samples.len()));
            let audio = Audio { rate_hz: request.audio.rate_hz, samples: samples[from..to].to_vec() };
            let answer = engine.hear(&HearRequest { audio: &audio, ..*request });
            add(&mut measured, &answer.measured);
            match answer {
                Answer { outcome: Outcome::Done | Outcome::Nothing, value: Some(heard), .. } => {
                    pieces.push(HeardPiece { start_s: *start_s, end_s: *end_s, heard });
                }
                failed => {
                    let place = format!("in the piece from {start_s:.2} s: ");
                    let detail = Some(place + failed.detail.as_deref().unwrap_or("no more was said"));
                    return Answer { detail, measured, value: None, ..failed };
                }
            }
        }
        measured.traffic.pieces = Some(stretches.len() as u32);
        heard_answer(join_pieces(&pieces), measured)
    }
}

/// Adds a later call of the same trial: times and processor seconds add up, memory is the larger.
pub(crate) fn add(measured: &mut Measured, later: &Measured) {
    let sum = |a: Option<f64>, b: Option<f64>| a.zip(b).map(|(a, b)| a + b).or(a).or(b);
    measured.took_ms = sum(measured.took_ms, later.took_ms);
    measured.cpu_s = sum(measured.cpu_s, later.cpu_s);
    measured.peak_memory_kib = measured.peak_memory_kib.max(later.peak_memory_kib);
    measured.first_ms = measured.first_ms.or(later.first_ms);
    measured.traffic.append(later.traffic.clone());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windows_cover_the_clip_once() {
        let audio = |seconds: f64| Audio { rate_hz: 100, samples: vec![0.0; (seconds * 100.0) as usize] };
        let cut = |seconds, window_s, overlap_s| Delivery::Pieces { window_s, overlap_s }.stretches(&audio(seconds));
        assert_eq!(cut(5.0, 2.0, 0.0), [(0.0, 2.0), (2.0, 4.0), (4.0, 5.0)]);
        assert_eq!(cut(4.0, 2.0, 0.0), [(0.0, 2.0), (2.0, 4.0)]);
        assert_eq!(cut(5.0, 3.0, 1.0), [(0.0, 3.0), (2.0, 5.0)]);
        assert_eq!(cut(1.0, 3.0, 1.0), [(0.0, 1.0)]);
        assert_eq!(Delivery::default().stretches(&audio(0.0)), [(0.0, 0.0)]);
        assert_eq!(cut(0.0, 3.0, 1.0).len(), 1);
    }

    #[test]
    fn deliveries_are_written_as_they_are_read() {
        for (text, name) in [
            (r#""whole""#, "whole"),
            (r#"{"pieces":{"window_s":10.0,"overlap_s":1.0}}"#, "pieces=10s-1s"),
            (r#"{"live":{"speed":1.0,"frame_ms":100.0,"no_wait":false}}"#, "live"),
            (r#"{"pauses":{"pause_s":0.3,"longest_s":30.0}}"#, "pauses=0.3s"),
        ] {
            let delivery: Delivery = serde_json::from_str(text).unwrap();
            assert_eq!(
                (serde_json::to_string(&delivery).unwrap().as_str(), delivery.to_string().as_str()),
                (text, name)
            );
        }
        assert!(serde_json::from_str::<Delivery>(r#"{"pieces":{"window":10}}"#).is_err());
    }
}
