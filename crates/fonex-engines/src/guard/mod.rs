//! Around every engine: limits, retries, the rate of requests, texts that are too long, and secrets redacted out.

mod limits;
mod rate;

use std::sync::Arc;

use fonex_core::audio::Audio;
use fonex_core::latency::{LiveEvent, Traffic};
use fonex_core::speech::AskedSound;
use fonex_core::stats::stream;
use fonex_core::{Heard, Outcome};
use fonex_formats::{GREATEST_HEARD_TIME, LONGEST_TEXT};
use rand::RngExt;

use crate::captioned::without_captions;
use crate::hands::now;
use crate::panics::caught_call;
use crate::secrets::Redaction;
use crate::voices::Voice;
use crate::{
    Answer, Engine, HearRequest, Juggled, Live, Measured, RetryAdvice, Settings, SpeakRequest, StopFlag, Trial,
};
pub use limits::{Limits, LongText, Retry};
use rate::Gate;
pub use rate::SharedPace;

/// An engine behind its limits.
pub(crate) struct Guarded {
    pub(crate) inner: Box<dyn Engine>,
    pub(crate) limits: Limits,
    pub(crate) retry: Retry,
    pub(crate) gate: Gate,
    pub(crate) redaction: Redaction,
    pub(crate) seed: u64,
    /// The form of the sound that it is asked for.
    asked_sound: AskedSound,
}

impl Guarded {
    /// The same of an engine that is asked for sound of this form.
    pub(crate) fn asking_for(self, asked_sound: AskedSound) -> Self {
        Self { asked_sound, ..self }
    }

    /// The same with limits that hold for others as well, who know it by this name.
    pub(crate) fn shared_with(self, pace: Option<Arc<dyn SharedPace>>, engine: &str) -> Self {
        Self { gate: self.gate.shared_with(pace, engine), ..self }
    }

    pub(crate) fn new(inner: Box<dyn Engine>, limits: Limits, retry: Retry, redaction: Redaction, seed: u64) -> Self {
        let gate = Gate::new(limits.requests_per_s, limits.concurrency);
        Self { inner, limits, retry, gate, redaction, seed, asked_sound: AskedSound::default() }
    }

    /// Calls until an answer or a failure that stands. What every attempt exchanged is kept.
    async fn call<T>(&self, clip_id: &str, stop: &StopFlag, attempt: impl AsyncFn() -> Answer<T>) -> Answer<T> {
        let mut chances = None;
        let mut before = None;
        let mut next = 1;
        loop {
            let Some(pass) = self.gate.enter(stop) else {
                let stopped = Answer::failed(Outcome::Stopped, "stopped before the request was sent");
                return stopped.measured(Measured { traffic: before.unwrap_or_default(), ..Measured::default() });
            };
            let mut answer = caught_call(attempt()).await;
            drop(pass);
            self.note(&mut answer.measured.traffic, before.take(), next);
            next += 1;
            let RetryAdvice::Repeat(asked) = answer.then else { return self.redacted(answer) };
            if next > self.retry.attempts {
                return self.redacted(answer);
            }
            let chances = chances.get_or_insert_with(|| stream(self.seed, &["retry", clip_id]));
            let wait = self.retry.wait(next, chances.random());
            let wait = asked.map_or(wait, |asked| asked.max(wait));
            if wait.as_secs_f64() > self.retry.longest_wait_s {
                let wish = format!("it asked to wait {} s, longer than longest_wait_s", wait.as_secs());
                answer.detail =
                    Some(answer.detail.map_or_else(|| wish.clone(), |detail| format!("{detail}; {wish}")));
                return self.redacted(answer);
            }
            if !stop.pause(wait) {
                return Answer::failed(Outcome::Stopped, "stopped while waiting to try again")
                    .measured(answer.measured);
            }
            before = Some(answer.measured.traffic);
        }
    }

    /// Puts what earlier attempts exchanged before what this one did.
    fn note(&self, traffic: &mut Traffic, before: Option<Traffic>, attempt: u32) {
        for request in &mut traffic.requests {
            request.attempt = attempt;
            request.detail = request.detail.take().map(|detail| crate::cut(&self.redaction.redact(&detail)));
        }
        // Live events, names of timings, what no rule knows: every text there is.
        // Traffic that cannot be searched is not kept.
        let own = self.redaction.redact_all(std::mem::take(traffic)).unwrap_or_default();
        *traffic = match before {
            None => own,
            Some(mut all) => {
                all.append(own);
                all
            }
        };
    }

    fn redacted<T>(&self, answer: Answer<T>) -> Answer<T> {
        let detail = answer.detail.map(|detail| self.redaction.redact(&detail));
        Answer { detail, ..answer }
    }

    fn too_long(&self, text: &str) -> Option<usize> {
        let most = self.limits.text_characters?;
        let characters = text.chars().count();
        (characters > most).then_some(characters)
    }

    /// Cuts a text and has each part spoken.
    fn speak_split(&self, request: &SpeakRequest<'_>, most: usize) -> Answer<Audio> {
        let parts = match fonex_core::text::split_at_sentences(request.text, most) {
            Ok(parts) => parts,
            Err(word) => {
                let what = format!(
                    "the word of {} characters at its {}. is longer than the engine takes",
                    word.length, word.at
                );
                return Answer::failed(Outcome::Refused, what);
            }
        };
        let mut measured = Measured::default();
        let mut joined: Option<Audio> = None;
        for text in &parts {
            let part = SpeakRequest { text, ..*request };
            let answer = now(self.call(request.clip_id, request.stop, async || self.inner.speak(&part)));
            crate::deliver::add(&mut measured, &answer.measured);
            let Some(audio) = answer.value else {
                return Answer { measured, value: None, ..answer };
            };
            match &mut joined {
                None => joined = Some(audio),
                Some(all) if all.rate_hz == audio.rate_hz => all.samples.extend(audio.samples),
                Some(_) => {
                    let failed = Answer::failed(Outcome::Broken, "the parts of its sound differ in sample rate");
                    return failed.measured(measured);
                }
            }
        }
        measured.traffic.pieces = Some(parts.len() as u32);
        Answer::with(Outcome::Done, joined.unwrap_or(Audio { rate_hz: 16_000, samples: Vec::new() }), measured)
    }
}

/// What an engine says that nobody can have said, in words: a word that lies in no recording, where months are taken
/// for one; a text
/// that takes days.
fn impossible(heard: &Heard) -> Option<String> {
    if heard.text.len() > LONGEST_TEXT {
        return Some(format!("its text has {} MiB, more than three days of speech", heard.text.len() >> 20));
    }
    let mut times = heard.words.iter().flat_map(|word| [(word, word.start), (word, word.end)]);
    let (word, time) = times.find_map(|(word, time)| {
        Some((word, time.filter(|time| !(-GREATEST_HEARD_TIME..=GREATEST_HEARD_TIME).contains(time))?))
    })?;
    Some(crate::cut(&format!(
        "it places \"{}\" at {time} s, longer than any recording (is the unit right?)",
        word.text
    )))
}

/// An engine that says, by whatever rule, that there were no words gave an answer: an empty one.
fn without_words<T: Default>(answer: Answer<T>) -> Answer<T> {
    match answer.outcome {
        Outcome::Nothing => Answer { value: Some(answer.value.unwrap_or_default()), ..answer },
        _ => answer,
    }
}

fn refused_text<T>(characters: usize, most: usize) -> Answer<T> {
    let what =
        format!("a text of {characters} characters; the engine takes {most} (long_text = \"split\" would cut it)");
    Answer::failed(Outcome::Refused, what)
}

impl Guarded {
    async fn heard(
        &self,
        request: &HearRequest<'_>,
        inner: impl AsyncFn(&HearRequest<'_>) -> Answer<Heard>,
    ) -> Answer<Heard> {
        let audio_s = request.audio.duration_s();
        if let Some(most) = self.limits.audio_s.filter(|most| audio_s > *most) {
            let what =
                format!("{audio_s:.1} s of audio; the engine takes {most} s (delivery in pieces would cut it)");
            return Answer::failed(Outcome::Refused, what);
        }
        // Who watches a live delivery is shown nothing that would not be kept.
        let watched = request.live.and_then(|live| live.watch);
        let watch = |event: &LiveEvent| {
            if let Some(watch) = watched {
                watch(&LiveEvent { text: self.redaction.redact(&event.text), ..event.clone() });
            }
        };
        let live =
            request.live.map(|live| Live { watch: watched.map(|_| &watch as &(dyn Fn(&LiveEvent) + Sync)), ..live });
        let request = &HearRequest { live, ..*request };
        let answer = self.call(request.clip_id, request.stop, async || inner(request).await).await;
        let answer = without_words(answer);
        if let Some(what) = answer.value.as_ref().and_then(impossible) {
            return Answer::failed(Outcome::Broken, self.redaction.redact(&what)).measured(answer.measured);
        }
        let Answer { value: Some(heard), .. } = answer else { return answer };
        let kept = without_captions(heard).map_err(|why| self.redaction.redact(&why));
        match kept.and_then(|heard| self.redaction.redact_all(heard).map_err(str::to_owned)) {
            Ok(heard) => Answer { value: Some(heard), ..answer },
            Err(why) => Answer::failed(Outcome::Broken, why).measured(answer.measured),
        }
    }

    async fn replied(
        &self,
        request: &SpeakRequest<'_>,
        inner: impl AsyncFn(&SpeakRequest<'_>) -> Answer<String>,
    ) -> Answer<String> {
        let answer = self.call(request.clip_id, request.stop, async || inner(request).await).await;
        without_words(answer).map(|text| self.redaction.redact(&text))
    }

    /// The engine behind, of one that is juggled.
    fn juggled(&self) -> &dyn Juggled {
        self.inner.as_juggled().expect("only an engine whose inner one is juggled is juggled itself")
    }
}

impl Juggled for Guarded {
    fn hear_beside<'r>(&'r self, request: &'r HearRequest<'r>) -> Trial<'r, Heard> {
        Trial::new(self.heard(request, async |request| self.juggled().hear_beside(request).ended().await))
    }

    fn speak_beside<'r>(&'r self, request: &'r SpeakRequest<'r>) -> Trial<'r, Audio> {
        let ask = async || self.juggled().speak_beside(request).ended().await;
        Trial::new(self.call(request.clip_id, request.stop, ask))
    }

    fn reply_beside<'r>(&'r self, request: &'r SpeakRequest<'r>) -> Trial<'r, String> {
        Trial::new(self.replied(request, async |request| self.juggled().reply_beside(request).ended().await))
    }
}

impl Engine for Guarded {
    fn version(&self) -> Option<String> {
        self.inner.version().map(|version| self.redaction.redact(&version))
    }

    fn given(&self) -> String {
        self.inner.given()
    }

    fn asked_sound(&self) -> AskedSound {
        self.asked_sound
    }

    fn takes_live(&self) -> bool {
        self.inner.takes_live()
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        now(self.heard(request, async |request| self.inner.hear(request)))
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let text = request.ssml.unwrap_or(request.text);
        match (self.too_long(text), self.limits.text_characters) {
            // Markup is not cut: an element would lose its end.
            (Some(_), Some(most)) if request.ssml.is_none() && self.limits.long_text == LongText::Split => {
                self.speak_split(request, most)
            }
            (Some(characters), Some(most)) => refused_text(characters, most),
            _ => now(self.call(request.clip_id, request.stop, async || self.inner.speak(request))),
        }
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        if let (Some(characters), Some(most)) = (self.too_long(request.text), self.limits.text_characters) {
            return refused_text(characters, most);
        }
        now(self.replied(request, async |request| self.inner.reply(request)))
    }

    fn as_juggled(&self) -> Option<&dyn Juggled> {
        // Whoever waits for a turn, to try again or for the next part of a text holds its thread.
        let never_waits = self.gate.is_open() && self.retry.attempts == 1 && self.limits.text_characters.is_none();
        self.inner.as_juggled().filter(|_| never_waits).map(|_| self as &dyn Juggled)
    }

    fn voices_listed(&self, base: &Settings) -> Result<Option<Vec<Voice>>, String> {
        let listed = self.inner.voices_listed(base).map_err(|why| self.redaction.redact(&why));
        listed.and_then(|voices| self.redaction.redact_all(voices).map_err(str::to_owned))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU32, Ordering};
    use std::time::Duration;

    use super::*;
    use crate::Form;

    /// Fails as often as told, then answers.
    struct Faltering {
        failures: u32,
        then: RetryAdvice,
        calls: AtomicU32,
    }

    impl Engine for Faltering {
        fn version(&self) -> Option<String> {
            None
        }
        fn given(&self) -> String {
            String::new()
        }
        fn hear(&self, _: &HearRequest<'_>) -> Answer<Heard> {
            unreachable!("only replies are asked for")
        }
        fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
            self.calls.fetch_add(1, Ordering::Relaxed);
            let samples = vec![0.0; request.text.chars().count()];
            Answer::with(Outcome::Done, Audio { rate_hz: 8_000, samples }, Measured::default())
        }
        fn reply(&self, _: &SpeakRequest<'_>) -> Answer<String> {
            let call = self.calls.fetch_add(1, Ordering::Relaxed);
            let mut measured = Measured::default();
            let mut request = fonex_core::latency::Request::begun("ask", 0);
            request.detail = Some("key sesame".into());
            measured.traffic.requests.push(request);
            if call < self.failures {
                return Answer::failed(Outcome::Unreachable, "wrong key sesame").measured(measured).then(self.then);
            }
            Answer::with(Outcome::Done, "open, sesame".into(), measured)
        }
    }

    fn guarded(failures: u32, then: RetryAdvice, limits: Limits) -> Guarded {
        let inner = Box::new(Faltering { failures, then, calls: AtomicU32::new(0) });
        let retry = Retry { attempts: 3, first_wait_s: 0.001, longest_wait_s: 0.05 };
        Guarded::new(inner, limits, retry, Redaction::new([("KEY".to_owned(), "sesame".to_owned())]), 1)
    }

    fn ask<T>(text: &str, call: impl Fn(&SpeakRequest<'_>) -> Answer<T>) -> Answer<T> {
        let (settings, stop) = (Settings::new(), StopFlag::default());
        let form = Form { voice: "", model: "", settings: &settings };
        call(&SpeakRequest::new("c", None, text, form, &stop))
    }

    #[test]
    fn repeats_only_what_may_be_repeated_and_keeps_every_attempt() {
        let soon = RetryAdvice::Repeat(None);
        for (failures, then, outcome, attempts) in [
            (0, soon, Outcome::Done, 1),
            (2, soon, Outcome::Done, 3),
            (9, soon, Outcome::Unreachable, 3),
            (9, RetryAdvice::Leave, Outcome::Unreachable, 1),
            (9, RetryAdvice::QuotaGone, Outcome::Unreachable, 1),
            (9, RetryAdvice::Repeat(Some(Duration::from_secs(3_600))), Outcome::Unreachable, 1),
            (1, RetryAdvice::Repeat(Some(Duration::from_millis(10))), Outcome::Done, 2),
        ] {
            let engine = guarded(failures, then, Limits::default());
            let answer = ask("hello", |request| engine.reply(request));
            assert_eq!(answer.outcome, outcome, "{failures} {then:?}");
            let noted: Vec<u32> = answer.measured.traffic.requests.iter().map(|r| r.attempt).collect();
            assert_eq!(noted, (1..=attempts).collect::<Vec<_>>());
            assert!(!format!("{answer:?}").contains("sesame"), "{answer:?}");
        }
    }

    /// An engine of ours that fails internally costs the trial, not the run; its place in the queue is free again.
    #[test]
    fn a_panic_is_the_outcome_of_its_trial() {
        let limits = Limits { concurrency: Some(1), ..Limits::default() };
        let engine = guarded(0, RetryAdvice::Leave, limits);
        let (settings, stop) = (Settings::new(), StopFlag::default());
        let form = Form { voice: "", model: "", settings: &settings };
        let audio = Audio { rate_hz: 16_000, samples: Vec::new() };
        let request = HearRequest { clip_id: "c", lang: None, audio: &audio, form, stop: &stop, live: None };
        for _ in 0..3 {
            let answer = engine.hear(&request);
            assert_eq!(answer.outcome, Outcome::Broken);
            assert!(answer.detail.as_ref().unwrap().contains("only replies are asked for"), "{answer:?}");
        }
        assert_eq!(ask("hello", |request| engine.reply(request)).outcome, Outcome::Done);
    }

    #[test]
    fn long_texts_are_refused_or_cut_at_sentences() {
        let text = "One two three. Four five. Six!";
        let limits = |long_text| Limits { text_characters: Some(15), long_text, ..Limits::default() };
        let refused = ask(text, |request| guarded(0, RetryAdvice::Leave, limits(LongText::Refuse)).speak(request));
        assert_eq!(refused.outcome, Outcome::Refused);
        let split = ask(text, |request| guarded(0, RetryAdvice::Leave, limits(LongText::Split)).speak(request));
        assert_eq!((split.outcome, split.measured.traffic.pieces), (Outcome::Done, Some(2)));
    }

    #[test]
    fn waits_double_and_are_jittered() {
        let retry = Retry { attempts: 9, first_wait_s: 1.0, longest_wait_s: 5.0 };
        let seconds = [2, 3, 4, 5, 40].map(|next| retry.wait(next, 0.0).as_secs_f64());
        assert_eq!(seconds, [1.0, 2.0, 4.0, 5.0, 5.0]);
        assert_eq!(retry.wait(2, 1.0).as_secs_f64(), 0.5);
    }
}
