//! Audio delivered as from a microphone: its pace, and where it comes from when it is not a clip.

use std::fmt;
use std::sync::Mutex;
use std::sync::mpsc::Receiver;

use fonex_core::latency::LiveEvent;
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};

/// How frames follow each other.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Pace {
    /// Seconds of audio delivered a second; 1 is what a microphone gives.
    pub speed: f64,
    /// Milliseconds of audio in a frame.
    pub frame_ms: f64,
    /// Begins at once, as a careless client does, and not when the engine says that it is ready.
    pub at_once: bool,
    /// Gives up when no word came within so many seconds of the first frame.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wait_s: Option<f64>,
    /// Stops delivering after so many seconds of audio.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest_s: Option<f64>,
}

impl Default for Pace {
    fn default() -> Self {
        Self { speed: 1.0, frame_ms: 100.0, at_once: false, wait_s: None, longest_s: None }
    }
}

impl Pace {
    pub(crate) fn check(&self, place: &dyn Fn() -> Place) -> Result<(), Problem> {
        let limit = |seconds: Option<f64>| seconds.is_none_or(|s| (0.05..=86_400.0).contains(&s));
        let fits = (0.05..=100.0).contains(&self.speed)
            && (5.0..=5_000.0).contains(&self.frame_ms)
            && limit(self.wait_s)
            && limit(self.longest_s);
        if fits {
            return Ok(());
        }
        let expected = "a speed of 0.05 to 100, frames of 5 to 5000 ms, and limits of 0.05 s or more";
        Err(Problem::new("nothing can be delivered at this pace", place()).expected(expected))
    }
}

/// Audio that is still being recorded, in the form the engine takes: sixteen-bit samples, as they come.
pub struct Recording {
    parts: Mutex<Receiver<Vec<u8>>>,
}

impl Recording {
    /// From the receiving end of a channel; the recording ends when its sender is dropped.
    #[must_use]
    pub const fn new(parts: Receiver<Vec<u8>>) -> Self {
        Self { parts: Mutex::new(parts) }
    }

    /// What has come by now; none once the recording has ended.
    pub(crate) fn taken(&self) -> Option<Vec<u8>> {
        let parts = self.parts.lock().expect("nobody panics while it is held");
        let mut bytes = Vec::new();
        loop {
            match parts.try_recv() {
                Ok(part) => bytes.extend(part),
                Err(std::sync::mpsc::TryRecvError::Empty) => return Some(bytes),
                Err(std::sync::mpsc::TryRecvError::Disconnected) => return (!bytes.is_empty()).then_some(bytes),
            }
        }
    }
}

/// A live delivery.
#[derive(Clone, Copy)]
pub struct Live<'r> {
    /// How frames follow each other; of a recording they follow as they are recorded.
    pub pace: Pace,
    /// What is delivered instead of the clip's audio.
    pub recording: Option<&'r Recording>,
    /// Told of everything the engine says, as it comes.
    pub watch: Option<&'r (dyn Fn(&LiveEvent) + Sync)>,
}

impl Live<'_> {
    /// The clip's own audio at a pace.
    #[must_use]
    pub const fn paced(pace: Pace) -> Self {
        Self { pace, recording: None, watch: None }
    }
}

impl fmt::Debug for Live<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Live").field("pace", &self.pace).field("recording", &self.recording.is_some()).finish()
    }
}
