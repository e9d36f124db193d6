//! How audio reaches a recogniser: whole, in fixed windows, cut at silence, or as from a microphone.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::audio::{Audio, PauseRule, cut_at_pauses};

/// How audio reaches a recogniser.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
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
            Self::Pauses { pause_s, longest_s } if *longest_s != half_a_minute() => {
                write!(f, "pauses={pause_s}s-{longest_s}s")
            }
            Self::Pauses { pause_s, .. } => write!(f, "pauses={pause_s}s"),
            Self::Live(pace) => write!(f, "{pace}"),
        }
    }
}

/// How frames follow each other in a live delivery.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Pace {
    /// Seconds of audio delivered a second; 1 is what a microphone gives.
    pub speed: f64,
    /// Milliseconds of audio in a frame.
    pub frame_ms: f64,
    /// Begins at once, as a careless client does, and not when the engine says that it is ready.
    pub no_wait: bool,
    /// Gives up when no word came within this many seconds of the first frame.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wait_s: Option<f64>,
    /// Stops delivering after this many seconds of audio.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest_s: Option<f64>,
}

impl Default for Pace {
    fn default() -> Self {
        Self { speed: 1.0, frame_ms: 100.0, no_wait: false, wait_s: None, longest_s: None }
    }
}

impl fmt::Display for Pace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let usual = Self::default();
        f.write_str("live")?;
        if self.speed != usual.speed {
            write!(f, "={}x", self.speed)?;
        }
        if self.frame_ms != usual.frame_ms {
            write!(f, " frame={}ms", self.frame_ms)?;
        }
        if self.no_wait {
            f.write_str(" no-wait")?;
        }
        let limits = [("wait", self.wait_s), ("longest", self.longest_s)];
        limits.iter().try_for_each(|(name, s)| s.map_or(Ok(()), |s| write!(f, " {name}={s}s")))
    }
}

/// A delivery by which no audio can be sent: what is wrong and what was expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ImpossibleDelivery {
    /// What is wrong.
    pub wrong: &'static str,
    /// What was expected.
    pub expected: &'static str,
}

impl Pace {
    fn fits(&self) -> bool {
        let limit = |seconds: Option<f64>| seconds.is_none_or(|s| (0.05..=86_400.0).contains(&s));
        (0.05..=100.0).contains(&self.speed)
            && (5.0..=5_000.0).contains(&self.frame_ms)
            && limit(self.wait_s)
            && limit(self.longest_s)
    }
}

impl Delivery {
    /// Whether audio can be sent in this way.
    ///
    /// # Errors
    /// What is wrong with a length or the pace.
    pub fn check(&self) -> Result<(), ImpossibleDelivery> {
        const LENGTHS: &str = "audio cannot be cut with these lengths";
        let (fits, wrong, expected) = match *self {
            Self::Whole => (true, "", ""),
            Self::Live(pace) => (
                pace.fits(),
                "audio cannot be streamed with these values",
                "a speed of 0.05 to 100, frames of 5 to 5000 ms, and limits of 0.05 s or more",
            ),
            Self::Pieces { window_s, overlap_s } => (
                (0.1..=1e5).contains(&window_s) && (0.0..=window_s * 0.9).contains(&overlap_s),
                LENGTHS,
                "a window of 0.1 s or more and an overlap below nine tenths of it",
            ),
            Self::Pauses { pause_s, longest_s } => (
                pause_s >= 0.05 && (0.5..=1e5).contains(&longest_s) && pause_s <= longest_s,
                LENGTHS,
                "a pause of 0.05 s or more and a longest piece of 0.5 s or more",
            ),
        };
        if fits { Ok(()) } else { Err(ImpossibleDelivery { wrong, expected }) }
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
            (r#"{"live":{"speed":2.0,"frame_ms":20.0,"no_wait":true}}"#, "live=2x frame=20ms no-wait"),
            (r#"{"live":{"speed":1.0,"frame_ms":100.0,"no_wait":false,"wait_s":5.0}}"#, "live wait=5s"),
            (r#"{"pauses":{"pause_s":0.3,"longest_s":30.0}}"#, "pauses=0.3s"),
            (r#"{"pauses":{"pause_s":0.3,"longest_s":8.0}}"#, "pauses=0.3s-8s"),
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
