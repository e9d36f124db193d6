//! Somebody speaks while the machine does: the reply is spoken once more, and the next clip is said into it.

use std::sync::mpsc::{self, RecvTimeoutError};
use std::sync::{Mutex, OnceLock};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::audio::{Audio, measure};
use fonex_core::latency::{Interruption, LiveEvent, LiveWhat};
use fonex_core::{Clip, Outcome};
use fonex_engines::{Delivery, HearRequest, Live, Pace, SpeakRequest, StopFlag, Watch, hear_by};

use super::BrokenOff;
use super::chain::{Chain, Taken};

/// How often a run that is being stopped is looked for.
const LOOK: Duration = Duration::from_millis(50);

/// Has `next` said into the reply of a turn after `after_s` seconds of it; none where the reply is over by then.
pub(super) fn interrupt(
    chain: &Chain<'_>,
    taken: &Taken,
    clip: &Clip,
    (next, audio): (&Clip, &Audio),
    after_s: f64,
) -> Result<Option<Interruption>, BrokenOff> {
    let (sound_ms, leading_ms) = (taken.sound.duration_s() * 1e3, taken.leading_ms);
    let onset_ms = next.words.first().map_or_else(|| measure(audio).silence.leading_s, |word| word.start) * 1e3;
    if leading_ms + after_s * 1e3 + onset_ms >= sound_ms {
        return Ok(None);
    }
    let cut = StopFlag::default();
    let pieces: Mutex<Vec<(Instant, u64)>> = Mutex::new(Vec::new());
    let ended: OnceLock<Instant> = OnceLock::new();
    let noticed: OnceLock<(Instant, f64)> = OnceLock::new();
    let (told, begun) = mpsc::channel();
    thread::scope(|scope| {
        let speaking = scope.spawn(|| {
            let watch = |bytes: usize| {
                pieces.lock().expect("nobody panics while it is held").push((Instant::now(), bytes as u64));
                // Once the beginning is known nobody listens any more.
                let _ = told.send(());
            };
            let (lang, form) = (clip.lang.as_deref(), chain.partners[2].form());
            let request = SpeakRequest::new(&clip.id, lang, &taken.turn.reply, form, &cut);
            let answer = chain.engines[2].speak(&SpeakRequest { watch: Some(Watch(&watch)), ..request });
            ended.get_or_init(Instant::now);
            let _ = told.send(());
            answer
        });
        while begun.recv_timeout(LOOK) == Err(RecvTimeoutError::Timeout) {
            if chain.stop.is_set() {
                cut.set();
            }
        }
        // Played from the first piece on; an answer in one piece from its end on.
        let first = pieces.lock().expect("nobody panics while it is held").first().map(|(at, _)| *at);
        let first = first.or_else(|| ended.get().copied()).unwrap_or_else(Instant::now);
        let due = first + fonex_core::latency::span(leading_ms / 1e3 + after_s);
        thread::sleep(due.saturating_duration_since(Instant::now()));
        let watch = |event: &LiveEvent| {
            let words = matches!(event.what, LiveWhat::Interim | LiveWhat::Final) && !event.text.trim().is_empty();
            if words && noticed.get().is_none() {
                noticed.get_or_init(|| (Instant::now(), event.at_ms));
                cut.set();
            }
        };
        let request = HearRequest {
            clip_id: &next.id,
            lang: next.lang.as_deref(),
            audio,
            form: chain.partners[0].form(),
            stop: chain.stop,
            live: Some(Live { watch: Some(&watch), ..Live::paced(Pace::default()) }),
        };
        let began = Instant::now();
        let heard = hear_by(Delivery::Live(Pace::default()), chain.engines[0], &request);
        cut.set();
        let spoken = speaking.join().expect("a call does not panic");
        if !heard.outcome.is_answer() {
            return Err(BrokenOff::at(clip, "the interruption", heard.outcome, heard.detail));
        }
        if noticed.get().is_none() && !spoken.outcome.is_answer() && spoken.outcome != Outcome::Stopped {
            return Err(BrokenOff::at(clip, "the reply that is interrupted", spoken.outcome, spoken.detail));
        }
        let after = |from: Instant, to: Instant| to.saturating_duration_since(from).as_secs_f64() * 1e3;
        let speech = noticed.get().map(|(at, at_ms)| *at - fonex_core::latency::span(at_ms.max(0.0) / 1e3));
        let onset = speech.unwrap_or(began) + fonex_core::latency::span(onset_ms / 1e3);
        let ended = ended.get().copied().unwrap_or_else(Instant::now);
        let held_at = |moment: Instant| {
            let came: u64 = pieces
                .lock()
                .expect("nobody panics while it is held")
                .iter()
                .filter(|(at, _)| *at <= moment)
                .map(|(_, bytes)| bytes)
                .sum();
            let share = if ended <= moment || taken.bytes == 0 { 1.0 } else { came as f64 / taken.bytes as f64 };
            (share.min(1.0) * sound_ms - after(first, moment)).max(0.0)
        };
        Ok(Some(Interruption {
            clip: next.id.clone(),
            into_reply_ms: after(first, onset),
            noticed_ms: noticed.get().map(|(_, at_ms)| at_ms - onset_ms),
            closed_ms: noticed.get().map(|(at, _)| after(*at, ended)),
            held_ms: noticed.get().map(|(at, _)| held_at(*at)),
            reply_left_ms: sound_ms - after(first, onset),
        }))
    })
}
