//! The `worker` transport: a program that stays, spoken to in lines of JSON, so that loading its model is no latency.
//!
//! The protocol is described in `docs/transports.md`.

mod child;
mod live;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use fonex_core::audio::Audio;
use fonex_core::{Alternative, Heard, HeardWord, Outcome};
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::audio_form::AudioForm;
use crate::guard::Limits;
use crate::secrets::Secrets;
use crate::spoken::{from_base64, sound};
use crate::values::{Known, look_up, variables_in};
use crate::{
    Answer, Container, Engine, Form, HearRequest, Live, Measured, RetryAdvice, SpeakRequest, StopFlag, cut,
    heard_answer, outcome_of_words,
};
use child::{Child, Ended};
use live::Listening;

/// How a long-lived program is started.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WorkerConfig {
    /// The program and its arguments; never passed through a shell.
    pub command: Vec<String>,
    /// Variables set in its environment; secrets go here.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Its working folder, relative to the bench file.
    #[serde(default)]
    pub folder: Option<String>,
    /// Seconds it may take to be ready.
    #[serde(default = "two_minutes")]
    pub ready_s: f64,
    /// Bare 16-bit little-endian samples of this rate come back instead of a container.
    #[serde(default)]
    pub raw_rate_hz: Option<u32>,
    /// Whether it understands `listen`: audio line by line while it is spoken.
    #[serde(default)]
    pub live: bool,
}

const fn two_minutes() -> f64 {
    120.0
}

impl WorkerConfig {
    pub(crate) fn check(&self, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if self.command.first().is_none_or(String::is_empty) {
            return Err(
                Problem::new("the command is empty", at("command")).expected("a list: the program and its arguments")
            );
        }
        let known = Known { values: &[], settings: &[], secrets: false };
        for (i, argument) in self.command.iter().enumerate() {
            known.check(argument, "the command", || at(&format!("command[{i}]")))?;
        }
        let known = Known { values: &[], settings, secrets: true };
        for (key, template) in &self.env {
            known.check(template, "the environment", || at(&format!("env.{key}")))?;
        }
        if !(self.ready_s > 0.0 && self.ready_s <= 1e6) {
            return Err(
                Problem::new(format!("ready_s is {}", self.ready_s), at("ready_s")).expected("a number above 0")
            );
        }
        Ok(())
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        self.env.values().flat_map(|template| variables_in(template)).map(str::to_owned).collect()
    }
}

/// One line from a worker.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Line {
    #[serde(default)]
    ready: Option<u32>,
    #[serde(default)]
    name: Option<String>,
    #[serde(default)]
    id: Option<u64>,
    #[serde(default)]
    more: Option<String>,
    #[serde(default)]
    text: Option<String>,
    #[serde(default)]
    words: Vec<HeardWord>,
    #[serde(default)]
    alternatives: Vec<Alternative>,
    #[serde(default)]
    lang: Option<String>,
    #[serde(default)]
    confidence: Option<f64>,
    #[serde(default)]
    audio: Option<PathBuf>,
    #[serde(default)]
    audio_base64: Option<String>,
    #[serde(default)]
    outcome: Option<Outcome>,
    #[serde(default)]
    detail: Option<String>,
    #[serde(default)]
    usage: Option<Value>,
}

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
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    idle: Vec<Child>,
    name: Option<String>,
    next_id: u64,
}

impl WorkerEngine {
    pub(crate) fn new(
        config: WorkerConfig,
        audio: AudioForm,
        limits: Limits,
        folder: &Path,
        scratch: PathBuf,
        secrets: &Secrets,
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Self, Problem> {
        let variables = look_up(config.variables(), secrets, &at("env"))?;
        let filled = |template: &String| {
            crate::template::fill(template, |name| variables.get(name.strip_prefix("env.")?).cloned())
        };
        let env = config.env.iter().map(|(key, template)| (key.clone(), filled(template))).collect();
        let folder = config.folder.as_ref().map_or_else(|| folder.to_owned(), |own| folder.join(own));
        Ok(Self { config, audio, limits, folder, scratch, env, state: Mutex::default() })
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
        let started = Instant::now();
        let mut child = Child::start(&self.config.command, &self.folder, &self.env).map_err(|error| {
            let why = crate::net::io_reason(&error);
            Box::new(Answer::failed(
                Outcome::Unreachable,
                format!("cannot start \"{}\": {why}", self.config.command[0]),
            ))
        })?;
        let until = started + Duration::from_secs_f64(self.config.ready_s);
        loop {
            let line = child.next_line(until, stop).map_err(|ended| {
                let why = match &ended {
                    Ended::Late => format!("it was not ready within {} s", self.config.ready_s),
                    other => other.words(),
                };
                let outcome = if matches!(ended, Ended::Stopped) { Outcome::Stopped } else { Outcome::Unreachable };
                Box::new(Answer::failed(outcome, with_stderr(why, &child)).measured(measured.clone()))
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
                _ => keep_noise(measured, &line.text),
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
        let id = {
            let mut state = self.state();
            state.next_id += 1;
            state.next_id
        };
        request["id"] = json!(id);
        let cpu_before = child.cpu_s();
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
            match serde_json::from_str::<Line>(&line.text) {
                Ok(mut answer) if answer.id == Some(id) => {
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
                    measured.cpu_s = child.cpu_s().zip(cpu_before).map(|(after, before)| after - before);
                    measured.peak_memory_kib = child.peak_memory_kib();
                    measured.traffic.usage = answer.usage.as_ref().map(Value::to_string);
                    self.state().idle.push(child);
                    if !line.is_utf8 {
                        let failed = Answer::failed(Outcome::Broken, "its answer is not UTF-8");
                        return Err(Box::new(failed.measured(measured)));
                    }
                    return Ok((answer, measured));
                }
                _ => keep_noise(&mut measured, &line.text),
            }
            lines += 1;
            if lines == MOST_NOISE {
                let what = format!("it wrote {MOST_NOISE} lines that are no answer");
                return Err(Box::new(Answer::failed(Outcome::Broken, what).measured(measured)));
            }
        }
    }

    fn request(&self, what: &str, lang: Option<&str>, clip_id: &str, form: Form<'_>) -> Value {
        json!({"do": what, "clip": clip_id, "lang": lang, "voice": form.voice, "model": form.model, "settings": form.settings})
    }

    fn scratch_file(&self, name: &str) -> Result<(tempfile::TempDir, PathBuf), String> {
        let unusable = |error: std::io::Error| format!("no temporary file: {error}");
        fs::create_dir_all(&self.scratch).map_err(unusable)?;
        let folder = tempfile::Builder::new().prefix("trial-").tempdir_in(&self.scratch).map_err(unusable)?;
        let path = folder.path().join(name);
        Ok((folder, path))
    }

    fn read_sound(&self, line: &Line) -> Result<Audio, String> {
        let bytes = match (&line.audio, &line.audio_base64) {
            (Some(path), _) => {
                fs::read(self.folder.join(path)).map_err(|error| format!("its audio file cannot be read: {error}"))?
            }
            (None, Some(text)) => from_base64(text)?,
            (None, None) => return Err("its answer has neither audio nor audio_base64".to_owned()),
        };
        sound(bytes, self.config.raw_rate_hz)
    }
}

/// An outcome a worker states itself; none for an answer to read.
fn stated<T>(line: &Line, measured: &Measured) -> Option<Answer<T>> {
    let outcome = line.outcome.filter(|outcome| !outcome.is_answer())?;
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
    let Answer { outcome, detail, measured, .. } = *failed;
    let then = if outcome == Outcome::Unreachable { RetryAdvice::Repeat(None) } else { RetryAdvice::Leave };
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
        if let Some(live) = request.live {
            // Frames are bare samples, whatever container whole clips come in.
            let form = AudioForm { container: Container::Raw, ..self.audio };
            let sound = match form.prepare(request.audio) {
                Ok(sound) => sound,
                Err(why) => return Answer::failed(Outcome::Refused, why),
            };
            let mut asked = self.request("listen", request.lang, request.clip_id, request.form);
            asked["rate_hz"] = json!(self.audio.rate_hz);
            return heard_of(self.ask_live(asked, request.stop, Some((live, &sound))));
        }
        let sound = match self.audio.prepare(request.audio) {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        let file = self.scratch_file(&format!("audio.{}", self.audio.container.as_str()));
        let (_folder, path) = match file.and_then(|(folder, path)| {
            fs::write(&path, &sound).map(|()| (folder, path)).map_err(|error| format!("no temporary file: {error}"))
        }) {
            Ok(file) => file,
            Err(why) => return Answer::failed(Outcome::Stopped, why),
        };
        let mut asked = self.request("hear", request.lang, request.clip_id, request.form);
        asked["audio"] = json!(path);
        heard_of(self.ask(asked, request.stop))
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let (_folder, path) = match self.scratch_file("output") {
            Ok(file) => file,
            Err(why) => return Answer::failed(Outcome::Stopped, why),
        };
        let mut asked = self.request("speak", request.lang, request.clip_id, request.form);
        asked["text"] = json!(request.text);
        asked["output"] = json!(path);
        match self.ask(asked, request.stop) {
            Err(failed) => other(failed),
            Ok((line, measured)) => stated(&line, &measured).unwrap_or_else(|| match self.read_sound(&line) {
                Ok(audio) => Answer::with(Outcome::Done, audio, measured),
                Err(why) => Answer::failed(Outcome::Broken, why).measured(measured),
            }),
        }
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let mut asked = self.request("reply", request.lang, request.clip_id, request.form);
        asked["text"] = json!(request.text);
        if !request.earlier.is_empty() {
            asked["earlier"] = json!(request.earlier);
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
