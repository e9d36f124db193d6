//! One turn through the three links.

use fonex_core::audio::{Audio, measure};
use fonex_core::latency::{LiveWhat, Turn, play, sound_pieces};
use fonex_core::{Clip, Heard, Outcome};
use fonex_engines::{Answer, Delivery, Engine, EngineConfig, Form, HearRequest, Pace, SpeakRequest, StopFlag};

use super::BrokenOff;

pub(super) struct Chain<'c> {
    pub(super) engines: [&'c dyn Engine; 3],
    pub(super) configs: [&'c EngineConfig; 3],
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
    pub(super) fn form(config: &EngineConfig) -> Form<'_> {
        Form {
            model: config.models.first().map_or("", String::as_str),
            voice: config.voices.0.first().map_or("", |voice| voice.id.as_str()),
            settings: &config.settings,
        }
    }

    /// One turn after what a dialogue came to before.
    pub(super) fn turn(&self, clip: &Clip, audio: &Audio, earlier: &[String]) -> Result<Taken, BrokenOff> {
        let lang = clip.lang.as_deref();
        let request = HearRequest {
            clip_id: &clip.id,
            lang,
            audio,
            form: Self::form(self.configs[0]),
            stop: self.stop,
            live: None,
        };
        let delivery = if self.live { Delivery::Live(Pace::default()) } else { Delivery::Whole };
        let heard = delivery.hear(self.engines[0], &request);
        let hear_ms = hear_ms(&heard, clip, audio.duration_s());
        let (heard, _) = link(clip, "hear", heard)?;
        let ask = |text, config| SpeakRequest::new(&clip.id, lang, text, Self::form(config), self.stop);
        let reply = self.engines[1].reply(&SpeakRequest { earlier, ..ask(&heard.text, self.configs[1]) });
        let reply_first = reply.measured.first_ms;
        let (reply, reply_ms) = link(clip, "reply", reply)?;
        let spoken = self.engines[2].speak(&ask(&reply, self.configs[2]));
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
            reply_first_ms: reply_first.unwrap_or(reply_ms),
            reply_ms,
            speak_first_ms: first_ms + leading_ms,
            speak_ms,
            reply,
        };
        Ok(Taken { turn, sound, leading_ms, bytes })
    }
}

/// From the end of speech to the words: live from the labelled end to the last final result, else what the request took.
fn hear_ms(answer: &Answer<Heard>, clip: &Clip, audio_s: f64) -> f64 {
    let speech_end_ms = clip.words.last().map_or(audio_s, |word| word.end) * 1e3;
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
        Answer { outcome: Outcome::Done, value: Some(value), measured, .. } => {
            Ok((value, measured.took_ms.unwrap_or_default()))
        }
        Answer { outcome, detail, .. } => Err(BrokenOff::at(clip, link, outcome, detail)),
    }
}
