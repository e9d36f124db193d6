//! Audio delivered as from a microphone: its pace, and where it comes from when it is not a clip.

use std::borrow::Cow;
use std::fmt;
use std::sync::Mutex;
use std::sync::mpsc::{Receiver, TryRecvError};
use std::time::Instant;

use fonex_core::Pace;
use fonex_core::latency::{LiveEvent, Pacing};

/// Audio that is still being recorded, in the form the engine takes: sixteen-bit samples, as they come.
pub struct Recording {
    parts: Mutex<Receiver<Vec<u8>>>,
    began: Instant,
}

impl Recording {
    /// From the receiving end of a channel; the recording ends when its sender is dropped. `began` is when its first sample
    /// was recorded: the speaker's wait begins there, whether the engine is ready or not.
    #[must_use]
    pub const fn new(parts: Receiver<Vec<u8>>, began: Instant) -> Self {
        Self { parts: Mutex::new(parts), began }
    }

    /// What has come by now, and whether the recording has ended.
    fn taken(&self) -> (Vec<u8>, bool) {
        let parts = self.parts.lock().expect("nobody panics while it is held");
        let mut bytes = Vec::new();
        loop {
            match parts.try_recv() {
                Ok(part) => bytes.extend(part),
                Err(TryRecvError::Empty) => return (bytes, false),
                Err(TryRecvError::Disconnected) => return (bytes, true),
            }
        }
    }
}

/// A live delivery.
#[derive(Clone, Copy)]
pub struct Live<'r> {
    /// How frames follow each other; of a recording no sooner than they are recorded.
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

    /// From when the moments of events are counted, where frames begin to be sent now: from a recording's first sample, or
    /// from the first frame of a clip.
    pub(crate) fn clock(&self, now: Instant) -> Instant {
        self.recording.map_or(now, |recording| recording.began.min(now))
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
    /// The recording has ended.
    ended: bool,
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
            ended: false,
            late_ms: Vec::new(),
        }
    }

    /// When the next frame is due.
    pub(crate) fn due(&self) -> Instant {
        let pace = &self.live.pace;
        self.started + fonex_core::latency::span(f64::from(self.due_so_far + 1) * pace.frame_ms / 1e3 / pace.speed)
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
                let (more, ended) = recording.taken();
                self.waiting.extend(more);
                self.ended |= ended;
                self.waiting.truncate(self.most.saturating_sub(self.delivered));
                // What waited goes out no faster than it was spoken; a frame that came late may be made up for.
                let due = (self.due_so_far as usize * self.size).saturating_sub(self.delivered).min(2 * self.size);
                let whole = self.waiting.len().min(due) / 2 * 2;
                if whole == 0 && !self.ended && self.delivered < self.most {
                    return Frame::Nothing;
                }
                Cow::Owned(self.waiting.drain(..whole).collect())
            }
        };
        if part.is_empty() {
            return Frame::Over;
        }
        self.delivered += part.len();
        self.late_ms.push(late_ms);
        let last = match self.live.recording {
            None => self.delivered >= self.sound.len(),
            Some(_) => self.ended && self.waiting.len() < 2 || self.delivered >= self.most,
        };
        Frame::Audio { part, last }
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

#[cfg(test)]
mod tests {
    use std::sync::mpsc::channel;

    use std::time::Duration;

    use super::*;

    /// Bytes of each frame until the end, however late it is.
    fn frames(mut frames: Frames<'_>) -> Vec<usize> {
        let mut sizes = Vec::new();
        loop {
            match frames.next() {
                Frame::Audio { part, last } => {
                    sizes.push(part.len());
                    if last {
                        return sizes;
                    }
                }
                Frame::Nothing => sizes.push(0),
                Frame::Over => return sizes,
            }
        }
    }

    fn live(recording: &Recording, longest_s: Option<f64>) -> Live<'_> {
        Live { pace: Pace { longest_s, ..Pace::default() }, recording: Some(recording), watch: None }
    }

    #[test]
    fn what_was_recorded_before_goes_out_frame_by_frame() {
        let (sender, receiver) = channel();
        sender.send(vec![1; 10_001]).unwrap();
        drop(sender);
        let began = Instant::now();
        let recording = Recording::new(receiver, began);
        let ready = began + Duration::from_secs(1);
        let sent = Frames::new(&[], live(&recording, None), 32_000.0, ready);
        assert_eq!(sent.due() - ready, Duration::from_millis(100));
        assert_eq!(live(&recording, None).clock(ready), began, "the speaker's wait begins with the first sample");
        assert_eq!(frames(sent), [3_200, 3_200, 3_200, 400], "half a sample is none");
    }

    #[test]
    fn a_frame_that_came_late_is_made_up_for_and_the_longest_length_ends_it() {
        let (sender, receiver) = channel();
        let recording = Recording::new(receiver, Instant::now());
        let mut sent = Frames::new(&[], live(&recording, Some(0.5)), 32_000.0, Instant::now());
        assert!(matches!(sent.next(), Frame::Nothing));
        sender.send(vec![1; 32_000]).unwrap();
        assert_eq!(frames(sent), [6_400, 3_200, 3_200, 3_200], "half a second in all");
    }
}
