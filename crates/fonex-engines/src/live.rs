//! Audio delivered as from a microphone: its pace, and where it comes from when it is not a clip.

use std::borrow::Cow;
use std::fmt;
use std::sync::Mutex;
use std::sync::mpsc::Receiver;
use std::time::{Duration, Instant};

use fonex_core::latency::{LiveEvent, Pacing};
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
    pub no_wait: bool,
    /// Gives up when no word came within so many seconds of the first frame.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wait_s: Option<f64>,
    /// Stops delivering after so many seconds of audio.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest_s: Option<f64>,
}

impl Default for Pace {
    fn default() -> Self {
        Self { speed: 1.0, frame_ms: 100.0, no_wait: false, wait_s: None, longest_s: None }
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

/// The frames of one live delivery and when each is due: once its own audio is over. Moments are counted from the first,
/// so that a late frame makes no later one late.
pub(crate) struct Frames<'f> {
    live: Live<'f>,
    sound: &'f [u8],
    /// Bytes of a frame, and of all frames at most; whole samples only.
    size: usize,
    most: usize,
    started: Instant,
    due_so_far: u32,
    delivered: usize,
    waiting: Vec<u8>,
    late_ms: Vec<f64>,
}

/// What is to be sent at the moment a frame is due.
pub(crate) enum Frame<'f> {
    /// Audio; `last` when no more follows, so that the end can be told with it and not a frame later.
    Audio { part: Cow<'f, [u8]>, last: bool },
    /// Nothing has been recorded since.
    Nothing,
    /// The end.
    Over,
}

impl<'f> Frames<'f> {
    pub(crate) fn new(sound: &'f [u8], live: Live<'f>, bytes_a_second: f64, started: Instant) -> Self {
        let whole = |seconds: f64| (bytes_a_second * seconds) as usize / 2 * 2;
        let most = live.pace.longest_s.map_or(usize::MAX, whole);
        Self {
            live,
            sound: &sound[..sound.len().min(most)],
            size: whole(live.pace.frame_ms / 1e3).max(2),
            most,
            started,
            due_so_far: 0,
            delivered: 0,
            waiting: Vec::new(),
            late_ms: Vec::new(),
        }
    }

    /// When the next frame is due.
    pub(crate) fn due(&self) -> Instant {
        let pace = &self.live.pace;
        self.started + Duration::from_secs_f64(f64::from(self.due_so_far + 1) * pace.frame_ms / 1e3 / pace.speed)
    }

    /// The frame that is due now.
    pub(crate) fn next(&mut self) -> Frame<'f> {
        let late_ms = self.due().elapsed().as_secs_f64() * 1e3;
        self.due_so_far += 1;
        let part = match self.live.recording {
            None => {
                let end = self.sound.len().min(self.delivered + self.size);
                Cow::Borrowed(&self.sound[self.delivered.min(end)..end])
            }
            Some(recording) => {
                let more = recording.taken();
                let over = more.is_none() || self.delivered >= self.most;
                self.waiting.extend(more.unwrap_or_default());
                let whole = self.waiting.len() / 2 * 2;
                if whole == 0 && !over {
                    return Frame::Nothing;
                }
                if over {
                    self.waiting.truncate(self.most.saturating_sub(self.delivered));
                }
                let whole = whole.min(self.waiting.len());
                Cow::Owned(self.waiting.drain(..whole).collect())
            }
        };
        if part.is_empty() {
            return Frame::Over;
        }
        self.delivered += part.len();
        self.late_ms.push(late_ms);
        Frame::Audio { part, last: self.live.recording.is_none() && self.delivered >= self.sound.len() }
    }

    /// How well the frames kept their times.
    pub(crate) fn pacing(&self) -> Pacing {
        Pacing::of(&self.late_ms)
    }
}

impl fmt::Debug for Live<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Live").field("pace", &self.pace).field("recording", &self.recording.is_some()).finish()
    }
}
