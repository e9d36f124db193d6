//! The `worker` transport: a program that stays, spoken to in lines of JSON, so that loading its model is no latency.
//!
//! The protocol is described in `docs/transports.md`.

mod child;
mod config;
mod line;
mod live;

use std::collections::BTreeMap;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::path::PathBuf;
use std::sync::Mutex;
use std::time::{Duration, Instant};
use std::{fs, io};

use fonex_core::audio::Audio;
use fonex_core::{Heard, Outcome};
use fonex_formats::{Place, Problem, regular};
use serde_json::{Value, json as object};

use crate::audio_form::AudioForm;
use crate::config::ProgramParts;
use crate::guard::Limits;
use crate::hands::now;
use crate::http::longest_answer;
use crate::process::{patiently, start_reason};
use crate::secrets::Redaction;
use crate::spoken::{Sound, from_base64, sound, spoken};
use crate::values::look_up;
use crate::{
    Answer, Container, Engine, Form, HearRequest, Live, Measured, RetryAdvice, SpeakRequest, StopFlag, cut,
    heard_answer, outcome_of_words,
};
use child::{Child, Ended};
pub use config::WorkerConfig;
pub(crate) use line::{Line, read_line};
use live::Listening;

/// What comes of a request without a line to read.
type Failed = Box<Answer<Line>>;

/// The version of the protocol that is spoken here.
const PROTOCOL: u32 = 1;
/// Bytes of a reply in steps beyond which it is given up.
const LONGEST_REPLY: usize = 64 << 20;
/// Lines that are no answer before a worker is taken to have lost its way.
const MOST_NOISE: u32 = 1_000_000;
/// Lines of noise kept for each trial.
const NOISE_KEPT: usize = 10;

/// An engine that is a program which stays.
pub(crate) struct WorkerEngine {
    config: WorkerConfig,
    audio: AudioForm,
    limits: Limits,
    folder: PathBuf,
    scratch: PathBuf,
    env: BTreeMap<String, String>,
    /// Bytes of an answer.
    longest: usize,
    redaction: Redaction,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    idle: Vec<Child>,
    name: Option<String>,
    /// It was waited for once and never was ready: nobody waits for it again.
    never_ready: Option<String>,
}

impl WorkerEngine {
    pub(crate) fn new(
        config: WorkerConfig,
        parts: ProgramParts<'_>,
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Self, Problem> {
        let ProgramParts { task, audio, limits, folder, scratch, secrets, redaction } = parts;
        let variables = look_up(config.variables(), secrets, &at("env"))?;
        let filled = |template: &String| {
            crate::template::fill(template, |name| variables.get(name.strip_prefix("env.")?).map(String::as_str))
        };
        let env = config.env.iter().map(|(key, template)| (key.clone(), filled(template))).collect();
        let folder = config.folder.as_ref().map_or_else(|| folder.to_owned(), |own| folder.join(own));
        let longest = longest_answer(task);
        Ok(Self { config, audio, limits, folder, scratch, env, longest, redaction, state: Mutex::default() })
    }

    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().expect("no holder of this lock panics")
    }

    /// A worker that waits for work, or a new one with the time it took until it was ready.
    fn ready(&self, stop: &StopFlag, measured: &mut Measured) -> Result<Child, Failed> {
        let waiting = std::iter::from_fn(|| self.state().idle.pop()).find(Child::is_alive);
        if let Some(child) = waiting {
            return Ok(child);
        }
        if let Some(why) = &self.state().never_ready {
            let what = format!("{why}; it is not waited for again");
            return Err(Box::new(Answer::failed(Outcome::Unreachable, what)));
        }
        let started = Instant::now();
        // Sound in a line is in Base64: four characters for three bytes.
        let longest = (self.longest as u64 * 4 / 3) + (1 << 20);
        let start = || Child::start(&self.config.command, &self.folder, &self.env, longest);
        let mut child = patiently(stop, start).map_err(|error| {
            let why = start_reason(&error);
            Box::new(Answer::failed(
                Outcome::Unreachable,
                format!("cannot start \"{}\": {why}", self.config.command[0]),
            ))
        })?;
        let until = started + fonex_core::latency::span(self.config.ready_s);
        let mut lines = 0;
        loop {
            let line = child.next_line(until, stop).map_err(|ended| {
                let why = match &ended {
                    Ended::Late => format!("it was not ready within {} s", self.config.ready_s),
                    other => other.words(),
                };
                let outcome = if matches!(ended, Ended::Stopped) { Outcome::Stopped } else { Outcome::Unreachable };
                if matches!(ended, Ended::Late) {
                    self.state().never_ready = Some(why.clone());
                }
                let died = matches!(ended, Ended::Exited(_));
                let then = if died { RetryAdvice::Repeat(None) } else { RetryAdvice::Leave };
                Box::new(Answer::failed(outcome, with_stderr(why, &child)).measured(measured.clone()).then(then))
            })?;
            match serde_json::from_str::<Line>(&line.text) {
                Ok(Line { ready: Some(PROTOCOL), name, .. }) => {
                    let mut state = self.state();
                    state.name = name.or(state.name.take());
                    child.start_up_ms = Some(line.at.saturating_duration_since(started).as_secs_f64() * 1e3);
                    return Ok(child);
                }
                Ok(Line { ready: Some(other), .. }) => {
                    let what = format!(
                        "it speaks version {other} of the worker protocol; version {PROTOCOL} is spoken here"
                    );
                    return Err(Box::new(Answer::failed(Outcome::Broken, what)));
                }
                _ => {
                    crate::notice::tell(&self.config.command[0], &self.redaction.redact(&line.text));
                    keep_noise(measured, &line.text);
                }
            }
            lines += 1;
            if lines == MOST_NOISE {
                let what = format!("it wrote {MOST_NOISE} lines before it was ready");
                return Err(Box::new(Answer::failed(Outcome::Broken, what).measured(measured.clone())));
            }
        }
    }

    /// Sends a request and waits for its answer, which is read elsewhere.
    fn ask(&self, request: Value, stop: &StopFlag) -> Result<(Line, Measured), Failed> {
        self.ask_live(request, stop, None)
    }

    /// The same, with audio sent while the answer is waited for.
    fn ask_live(
        &self,
        mut request: Value,
        stop: &StopFlag,
        audio: Option<(Live<'_>, &[u8])>,
    ) -> Result<(Line, Measured), Failed> {
        let mut measured = Measured::default();
        let mut child = self.ready(stop, &mut measured)?;
        measured.traffic.start_up_ms = child.start_up_ms.take();
        // One that cannot be guessed: an answer before its request is none.
        let id = RandomState::new().build_hasher().finish() >> 12;
        request["id"] = object!(id);
        let before = child.usage();
        let started = Instant::now();
        let bytes_a_second = f64::from(self.audio.rate_hz) * f64::from(self.audio.bits / 8);
        let mut listening = audio.map(|(live, sound)| Listening::new(id, live, sound, bytes_a_second));
        let until = started + self.limits.total() + listening.as_ref().map_or(Duration::ZERO, Listening::lasts);
        let failed = |ended: Ended, child: &Child, mut measured: Measured| {
            measured.took_ms = Some(started.elapsed().as_secs_f64() * 1e3);
            let (outcome, why) = match ended {
                Ended::Late => (Outcome::Late, format!("no answer within {} s", self.limits.total_s)),
                Ended::Stopped => (Outcome::Stopped, "stopped before the answer came".to_owned()),
                Ended::Silent => (Outcome::Late, "no word within the wait allowed for the first".to_owned()),
                other => (Outcome::Broken, other.words()),
            };
            Box::new(Answer::failed(outcome, with_stderr(why, child)).measured(measured))
        };
        if let Err(ended) = child.send(request.to_string()) {
            return Err(failed(ended, &child, measured));
        }
        let (mut more, mut lines) = (String::new(), 0);
        loop {
            let line = match &mut listening {
                None => child.next_line(until, stop),
                Some(listening) => listening.next_line(&mut child, until, stop),
            };
            let line = match line {
                Ok(line) => line,
                Err(ended) => {
                    measured.traffic.live = listening.map(|listening| Box::new(listening.finish(None).0));
                    return Err(failed(ended, &child, measured));
                }
            };
            if listening.as_mut().is_some_and(|listening| listening.take(&line.text, line.at)) {
                continue;
            }
            let after = line.at.saturating_duration_since(started).as_secs_f64() * 1e3;
            match read_line(&line.text, id) {
                Err(what) => {
                    measured.took_ms = Some(after);
                    return Err(Box::new(Answer::failed(Outcome::Broken, what).measured(measured)));
                }
                Ok(Some(mut answer)) => {
                    if let Some(step) = answer.more.take() {
                        more += &step;
                        if more.len() > LONGEST_REPLY {
                            let what = format!("its steps are longer than {} MiB together", LONGEST_REPLY >> 20);
                            return Err(Box::new(Answer::failed(Outcome::Broken, what).measured(measured)));
                        }
                        measured.first_ms.get_or_insert(after);
                        continue;
                    }
                    answer.text = answer.text.or_else(|| (!more.is_empty()).then(|| std::mem::take(&mut more)));
                    if let Some(listening) = listening.take() {
                        let (log, settled) = listening.finish(answer.text.as_deref().map(|text| (text, line.at)));
                        answer.text.get_or_insert(settled);
                        measured.traffic.live = Some(Box::new(log));
                    }
                    measured.took_ms = Some(after);
                    let usage = child.usage();
                    // A descendant that ended without being waited for takes its time with it: then it is unknown.
                    measured.cpu_s = usage.zip(before).map(|(a, b)| a.cpu_s - b.cpu_s).filter(|cpu_s| *cpu_s >= 0.0);
                    measured.peak_memory_kib = usage.and_then(|usage| usage.peak_memory_kib);
                    measured.traffic.usage = answer.usage.as_ref().map(Value::to_string);
                    self.state().idle.push(child);
                    if !line.is_utf8 {
                        let failed = Answer::failed(Outcome::Broken, "its answer is not UTF-8");
                        return Err(Box::new(failed.measured(measured)));
                    }
                    return Ok((answer, measured));
                }
                Ok(None) => keep_noise(&mut measured, &line.text),
            }
            lines += 1;
            if lines == MOST_NOISE {
                let what = format!("it wrote {MOST_NOISE} lines that are no answer");
                return Err(Box::new(Answer::failed(Outcome::Broken, what).measured(measured)));
            }
        }
    }

    fn request(&self, what: &str, lang: Option<&str>, clip_id: &str, form: Form<'_>) -> Value {
        object!({"do": what, "clip": clip_id, "lang": lang, "voice": form.voice, "model": form.model, "settings": form.settings})
    }

    fn scratch_file(&self, name: &str) -> io::Result<(tempfile::TempDir, PathBuf)> {
        fs::create_dir_all(&self.scratch)?;
        let folder = tempfile::Builder::new().prefix("trial-").tempdir_in(&self.scratch)?;
        let path = folder.path().join(name);
        Ok((folder, path))
    }

    fn read_sound(&self, line: &Line) -> Result<Sound, String> {
        let bytes = match (&line.audio, &line.audio_base64) {
            (Some(path), _) => regular::read(&self.folder.join(path), self.longest as u64)
                .map_err(|error| format!("its audio file cannot be read: {error}"))?,
            (None, Some(text)) => from_base64(text)?,
            (None, None) => return Err("its answer has neither audio nor audio_base64".to_owned()),
        };
        sound(bytes, self.config.raw_rate_hz)
    }
}

/// An outcome a worker states itself; none for an answer to read.
fn stated<T>(line: &Line, measured: &Measured) -> Option<Answer<T>> {
    let outcome = line.outcome.filter(|outcome| !outcome.is_answer())?;
    if outcome == Outcome::Stopped {
        let what = "it says that it was stopped, which only this side can do";
        return Some(Answer::failed(Outcome::Broken, what).measured(measured.clone()));
    }
    let detail = line.detail.clone().unwrap_or_else(|| "the worker gives no reason".to_owned());
    Some(Answer::failed(outcome, detail).measured(measured.clone()))
}

fn with_stderr(why: String, child: &Child) -> String {
    let said = cut(&child.said());
    if said.is_empty() { why } else { format!("{why}; it said: {said}") }
}

fn keep_noise(measured: &mut Measured, line: &str) {
    if measured.traffic.noise.len() < NOISE_KEPT {
        measured.traffic.noise.push(cut(line));
    }
}

fn other<T>(failed: Failed) -> Answer<T> {
    let Answer { outcome, detail, measured, then, .. } = *failed;
    // One that died while it started may not do so again; what does not exist, or is never ready, stays so.
    let then = match outcome {
        Outcome::Unreachable if then != RetryAdvice::Leave => RetryAdvice::Repeat(None),
        _ => RetryAdvice::Leave,
    };
    Answer { outcome, detail, value: None, measured, then }
}

/// What was heard, read from an answer.
fn heard_of(answered: Result<(Line, Measured), Failed>) -> Answer<Heard> {
    match answered {
        Err(failed) => other(failed),
        Ok((line, measured)) => stated(&line, &measured).unwrap_or_else(|| match line.text {
            Some(text) => {
                let Line { words, alternatives, lang, confidence, .. } = line;
                let heard = Heard { text, words, alternatives, lang, confidence, ..Heard::default() };
                heard_answer(heard, measured)
            }
            None if line.outcome == Some(Outcome::Nothing) => {
                Answer::failed(Outcome::Nothing, "it heard no words").measured(measured)
            }
            None => Answer::failed(Outcome::Broken, "its answer has no text").measured(measured),
        }),
    }
}

impl Engine for WorkerEngine {
    fn version(&self) -> Option<String> {
        let mut measured = Measured::default();
        let child = self.ready(&StopFlag::default(), &mut measured).ok()?;
        let mut state = self.state();
        state.idle.push(child);
        state.name.clone()
    }

    fn given(&self) -> String {
        self.audio.described()
    }

    fn takes_live(&self) -> bool {
        self.config.live
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        // Frames are bare samples, whatever container whole clips come in.
        let container = request.live.map_or(self.audio.container, |_| Container::Raw);
        let sound = match now(AudioForm { container, ..self.audio }.prepare(request.audio)) {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        if let Some(live) = request.live {
            let mut asked = self.request("listen", request.lang, request.clip_id, request.form);
            asked["rate_hz"] = object!(self.audio.rate_hz);
            return heard_of(self.ask_live(asked, request.stop, Some((live, &sound))));
        }
        let file = self.scratch_file(&format!("audio.{}", self.audio.container.as_str()));
        let written = file.and_then(|(folder, path)| fs::write(&path, &sound).map(|()| (folder, path)));
        let (_folder, path) = match written {
            Ok(file) => file,
            Err(error) => return crate::no_temporary_file(&self.scratch, &error),
        };
        let mut asked = self.request("hear", request.lang, request.clip_id, request.form);
        asked["audio"] = object!(path);
        heard_of(self.ask(asked, request.stop))
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let (_folder, path) = match self.scratch_file("output") {
            Ok(file) => file,
            Err(error) => return crate::no_temporary_file(&self.scratch, &error),
        };
        let mut asked = self.request("speak", request.lang, request.clip_id, request.form);
        asked["text"] = object!(request.text);
        request.ssml.into_iter().for_each(|ssml| asked["ssml"] = object!(ssml));
        asked["output"] = object!(path);
        match self.ask(asked, request.stop) {
            Err(failed) => other(failed),
            Ok((line, measured)) => stated(&line, &measured).unwrap_or_else(|| match self.read_sound(&line) {
                Ok(sound) => spoken(Answer::with(Outcome::Done, sound, measured)),
                Err(why) => Answer::failed(Outcome::Broken, why).measured(measured),
            }),
        }
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let mut asked = self.request("reply", request.lang, request.clip_id, request.form);
        asked["text"] = object!(request.text);
        if !request.earlier.is_empty() {
            asked["earlier"] = object!(request.earlier);
        }
        match self.ask(asked, request.stop) {
            Err(failed) => other(failed),
            Ok((line, measured)) => stated(&line, &measured).unwrap_or_else(|| match line.text {
                Some(text) => Answer::with(outcome_of_words(&text), text, measured),
                None => Answer::failed(Outcome::Broken, "its answer has no text").measured(measured),
            }),
        }
    }
}
