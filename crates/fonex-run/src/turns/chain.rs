//! One turn through the three links.

use fonex_core::audio::{Audio, measure};
use fonex_core::latency::{LiveWhat, SpeechEnd, Turn, play, sound_pieces};
use fonex_core::{Clip, Heard, Outcome};
use fonex_engines::{Answer, Delivery, Engine, HearRequest, Pace, SpeakRequest, StopFlag, hear_by};

use super::{BrokenOff, Partner};

pub(super) struct Chain<'c> {
    pub(super) engines: [&'c dyn Engine; 3],
    pub(super) partners: &'c [Partner<'c>; 3],
    pub(super) live: bool,
    pub(super) stop: &'c StopFlag,
}

/// A turn, and the sound it ended with.
pub(super) struct Taken {
    pub(super) turn: Turn,
    pub(super) sound: Audio,
    /// Silence at its beginning.
    pub(super) leading_ms: f64,
    /// Bytes in which the sound came; none where it came whole.
    pub(super) bytes: u64,
}

impl Chain<'_> {
    /// One turn after what a dialogue came to before.
    pub(super) fn turn(&self, clip: &Clip, audio: &Audio, earlier: &[String]) -> Result<Taken, BrokenOff> {
        let lang = clip.lang.as_deref();
        let request = HearRequest {
            clip_id: &clip.id,
            lang,
            audio,
            form: self.partners[0].form(),
            stop: self.stop,
            live: None,
        };
        let delivery = if self.live { Delivery::Live(Pace::default()) } else { Delivery::Whole };
        let heard = hear_by(delivery, self.engines[0], &request);
        let end = if self.live { Some(speech_end(clip, audio)) } else { None };
        let hear_ms = hear_ms(&heard, end.map_or_else(|| audio.duration_s(), |end| end.0));
        let (heard, _) = link(clip, "hear", heard)?;
        let ask = |text, at: usize| SpeakRequest::new(&clip.id, lang, text, self.partners[at].form(), self.stop);
        let reply = self.engines[1].reply(&SpeakRequest { earlier, ..ask(&heard.text, 1) });
        let reply_first = reply.measured.first_ms;
        let (reply, reply_ms) = link(clip, "reply", reply)?;
        let spoken = self.engines[2].speak(&ask(&reply, 2));
        let arrivals: Vec<(f64, u32)> = spoken.measured.traffic.arrivals.iter().collect();
        let (sound, speak_ms) = link(clip, "speak", spoken)?;
        let leading_ms = measure(&sound).silence.leading_s * 1e3;
        let bytes = arrivals.iter().map(|(_, bytes)| u64::from(*bytes)).sum();
        let pieces = sound_pieces(arrivals.into_iter(), sound.duration_s());
        let first_ms =
            if pieces.len() > 1 { play(&pieces).map_or(speak_ms, |played| played.first_ms) } else { speak_ms };
        let turn = Turn {
            clip: clip.id.clone(),
            dialogue: None,
            position: 1,
            heard: heard.text,
            hear_ms,
            speech_end: end.map(|end| end.1),
            reply_first_ms: reply_first.unwrap_or(reply_ms),
            reply_ms,
            speak_first_ms: first_ms + leading_ms,
            speak_ms,
            reply,
        };
        Ok(Taken { turn, sound, leading_ms, bytes })
    }
}

/// Where speech ends in a clip, in seconds: at the end of its last labelled word, else where silence begins in its audio.
fn speech_end(clip: &Clip, audio: &Audio) -> (f64, SpeechEnd) {
    // Shorter silence is a closing consonant.
    const SILENCE_S: f64 = 0.05;
    if let Some(word) = clip.words.last() {
        return (word.end, SpeechEnd::Labelled);
    }
    let silence_s = measure(audio).silence.trailing_s;
    if silence_s < SILENCE_S {
        (audio.duration_s(), SpeechEnd::AudioEnd)
    } else {
        (audio.duration_s() - silence_s, SpeechEnd::Measured)
    }
}

/// From the end of speech to the words: live to the last final result, else what the request took.
fn hear_ms(answer: &Answer<Heard>, speech_end_s: f64) -> f64 {
    let speech_end_ms = speech_end_s * 1e3;
    let log = answer.measured.traffic.live.as_ref();
    let last = log.and_then(|log| log.events.iter().rev().find(|event| event.what == LiveWhat::Final));
    match last {
        Some(event) => (event.at_ms - speech_end_ms).max(0.0),
        None => answer.measured.took_ms.unwrap_or_default(),
    }
}

/// What a link gave and how long it took, or how the turn broke off.
fn link<T>(clip: &Clip, link: &'static str, answer: Answer<T>) -> Result<(T, f64), BrokenOff> {
    match answer {
        Answer { outcome: Outcome::Done, value: Some(value), measured, .. } => match measured.took_ms {
            Some(took_ms) => Ok((value, took_ms)),
            // Zero milliseconds would be a figure that nobody measured.
            None => Err(BrokenOff::at(clip, link, Outcome::Broken, Some("its answer has no took_ms".to_owned()))),
        },
        Answer { outcome, detail, .. } => Err(BrokenOff::at(clip, link, outcome, detail)),
    }
}

#[cfg(test)]
mod tests {
    use fonex_core::TimedWord;

    use super::*;

    /// A second of tone, then silence.
    fn spoken(silence_s: f64) -> Audio {
        let tone = (0..16_000).map(|at| (at as f32 * 0.2).sin() * 0.3);
        let silence = std::iter::repeat_n(0.0, (silence_s * 16_000.0) as usize);
        Audio { rate_hz: 16_000, samples: tone.chain(silence).collect() }
    }

    #[test]
    fn the_end_of_speech_is_labelled_or_found_in_the_audio() {
        let word = TimedWord { text: "hold".into(), start: 0.1, end: 0.9 };
        let labelled = Clip { words: vec![word], ..Clip::default() };
        assert_eq!(speech_end(&labelled, &spoken(0.5)), (0.9, SpeechEnd::Labelled));
        let (end, how) = speech_end(&Clip::default(), &spoken(0.6));
        assert!((end - 1.0).abs() < 0.05 && how == SpeechEnd::Measured, "{end}");
        assert_eq!(speech_end(&Clip::default(), &spoken(0.0)), (1.0, SpeechEnd::AudioEnd));
    }
}
