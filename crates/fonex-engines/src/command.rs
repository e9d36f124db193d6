//! The `command` transport: a program started for each trial.

use std::collections::BTreeMap;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Duration;

use fonex_core::audio::Audio;
use fonex_core::{Heard, Outcome};
use fonex_formats::{Place, Problem, regular};
use fonex_system::failure;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tempfile::TempDir;

use crate::audio_form::AudioForm;
use crate::captioned::heard_of_text;
use crate::config::ProgramParts;
use crate::guard::Limits;
use crate::hands::now;
use crate::http::longest_answer;
use crate::json;
use crate::mapping::{ResultConfig, ResultForm, Wanted};
use crate::process::{Ending, Finished, Job, run};
use crate::rules::{self, OutcomeRule};
use crate::spoken::{Sound, from_base64, sound, spoken};
use crate::template::values_in;
use crate::values::{Known, Values, look_up, variables_in};
use crate::{
    Answer, Engine, Form, HearRequest, Measured, SpeakRequest, StopFlag, Task, cut, heard_answer, outcome_of_words,
};

/// How a program is called and how its result is read.
#[derive(Debug, Clone, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CommandConfig {
    /// The program and its arguments, with values filled in; never passed through a shell.
    pub command: Vec<String>,
    /// What goes to its standard input.
    #[serde(default)]
    pub stdin: Stdin,
    /// Variables set in its environment; secrets go here.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Its working folder, relative to the bench file.
    #[serde(default)]
    pub folder: Option<String>,
    /// Where and in which form its result comes.
    #[serde(default)]
    pub result: ResultConfig,
    /// What exit codes and words on its standard output or error mean.
    #[serde(default)]
    pub outcomes: Vec<OutcomeRule>,
    /// A command run once before the first trial, such as one that fills a cache.
    #[serde(default)]
    pub warm_up_command: Option<Vec<String>>,
    /// A command whose first line of output names the engine's version.
    #[serde(default)]
    pub version_command: Option<Vec<String>>,
}

/// What goes to a program's standard input.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Stdin {
    /// Nothing.
    #[default]
    Nothing,
    /// The text to speak.
    Text,
    /// The text to speak with its markup (SSML).
    Ssml,
    /// The WAV file to hear.
    Audio,
}

const VALUES: [&str; 11] =
    ["audio", "text", "ssml", "earlier", "text_file", "output", "voice", "model", "lang", "clip_id", "audio_rate_hz"];

impl CommandConfig {
    /// Checks what can be checked before the first trial.
    pub(crate) fn check(&self, task: Task, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if self.command.first().is_none_or(String::is_empty) {
            return Err(
                Problem::new("the command is empty", at("command")).expected("a list: the program and its arguments")
            );
        }
        let known = Known { values: &VALUES, settings, secrets: false };
        for (i, argument) in self.command.iter().enumerate() {
            known.check(argument, "the command", || at(&format!("command[{i}]")))?;
        }
        let known = Known { values: &["voice", "model", "lang", "clip_id"], settings, secrets: true };
        for (key, template) in &self.env {
            known.check(template, "the environment", || at(&format!("env.{key}")))?;
        }
        for (i, rule) in self.outcomes.iter().enumerate() {
            if let Some(what) = rules::fault(rule) {
                return Err(Problem::new(what, at(&format!("outcomes[{i}]"))));
            }
        }
        let (given, ways) = match task {
            Task::Hear => {
                (self.stdin == Stdin::Audio || self.uses("audio"), "{audio} in the command, or stdin = \"audio\"")
            }
            Task::Speak | Task::Reply => {
                let given = matches!(self.stdin, Stdin::Text | Stdin::Ssml)
                    || self.uses("text")
                    || self.uses("ssml")
                    || self.uses("text_file");
                (given, "{text}, {text_file} or {ssml} in the command, or stdin = \"text\" or \"ssml\"")
            }
        };
        if !given {
            let what = format!("the command never receives the input it should {}", task.as_str());
            return Err(Problem::new(what, at("command")).expected(ways));
        }
        let forms = [ResultForm::Text, ResultForm::Json, ResultForm::Audio];
        self.result.check(task, default_form(task), &forms, at)
    }

    pub(crate) fn variables(&self) -> Vec<String> {
        self.env.values().flat_map(|template| variables_in(template)).map(str::to_owned).collect()
    }

    fn form(&self, task: Task) -> ResultForm {
        self.result.form.unwrap_or_else(|| default_form(task))
    }

    fn uses(&self, value: &str) -> bool {
        self.command.iter().any(|argument| values_in(argument).any(|name| name == value))
    }
}

const fn default_form(task: Task) -> ResultForm {
    match task {
        Task::Speak => ResultForm::Audio,
        Task::Hear | Task::Reply => ResultForm::Text,
    }
}

/// An engine that is a program.
pub struct CommandEngine {
    config: CommandConfig,
    audio: AudioForm,
    limits: Limits,
    folder: PathBuf,
    scratch: PathBuf,
    variables: BTreeMap<String, String>,
    /// Bytes its answer may have.
    longest: usize,
    warm: OnceLock<()>,
}

/// What a trial puts into the command.
struct Call<'c> {
    clip_id: &'c str,
    lang: Option<&'c str>,
    form: Form<'c>,
    text: Option<&'c str>,
    ssml: Option<String>,
    earlier: &'c [String],
    sound: Option<&'c [u8]>,
    task: Task,
}

/// The result of a program that went well, and what was measured of it.
struct Raw {
    bytes: Vec<u8>,
    measured: Measured,
}

impl CommandEngine {
    /// An engine whose commands run in `folder` and whose temporary files live below `scratch`.
    pub(crate) fn new(
        config: CommandConfig,
        parts: ProgramParts<'_>,
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Self, Problem> {
        let ProgramParts { task, audio, limits, folder, scratch, secrets, .. } = parts;
        let variables = look_up(config.variables(), secrets, &at("env"))?;
        let folder = config.folder.as_ref().map_or_else(|| folder.to_owned(), |own| folder.join(own));
        let longest = longest_answer(task);
        Ok(Self { config, audio, limits, folder, scratch, variables, longest, warm: OnceLock::new() })
    }

    fn call<T>(&self, call: &Call<'_>, stop: &StopFlag) -> Result<Raw, Answer<T>> {
        let unusable = |error: std::io::Error| crate::no_temporary_file(&self.scratch, &error);
        let folder = self.temporary_folder().map_err(unusable)?;
        let file = |name: &str| folder.path().join(name);
        let config = &self.config;
        let audio_name = format!("audio.{}", self.audio.container.as_str());
        if let Some(sound) = call.sound.filter(|_| config.uses("audio")) {
            fs::write(file(&audio_name), sound).map_err(unusable)?;
        }
        if let Some(text) = call.text.filter(|_| config.uses("text_file")) {
            fs::write(file("text.txt"), text).map_err(unusable)?;
        }
        let mut values = Values::new(call.form, call.lang, call.clip_id, &self.variables);
        values.set("audio_rate_hz", self.audio.rate_hz.to_string());
        for (name, path) in [("audio", audio_name.as_str()), ("text_file", "text.txt"), ("output", "output")] {
            values.set(name, file(path).display().to_string());
        }
        values.set("text", call.text.unwrap_or_default());
        values.set("ssml", call.ssml.clone().unwrap_or_default());
        values.set("earlier", call.earlier.join("\n"));
        let argv: Vec<String> = config.command.iter().map(|argument| values.fill(argument)).collect();
        let env = config.env.iter().map(|(key, template)| (key.clone(), values.fill(template))).collect();
        let stdin = match config.stdin {
            Stdin::Nothing => None,
            Stdin::Text => call.text.map(|text| text.as_bytes().to_vec()),
            Stdin::Ssml => call.ssml.as_ref().map(|ssml| ssml.as_bytes().to_vec()),
            Stdin::Audio => call.sound.map(<[u8]>::to_vec),
        };
        self.warm_up(&env);
        let finished = run(&self.job(&argv, &env, stdin), stop);
        let measured = measured(&finished);
        if let Some(failed) = self.failed(&argv[0], &finished, &measured) {
            return Err(failed);
        }
        let read =
            if config.uses("output") { read_output(&file("output"), self.longest) } else { Ok(finished.stdout) };
        match read {
            Ok(bytes) => Ok(Raw { bytes, measured }),
            Err(why) => Err(Answer::failed(Outcome::Broken, why).measured(measured)),
        }
    }

    fn job<'j>(&'j self, argv: &'j [String], env: &'j BTreeMap<String, String>, stdin: Option<Vec<u8>>) -> Job<'j> {
        let time_limit = fonex_core::latency::span(self.limits.total_s);
        Job { argv, folder: &self.folder, env, stdin, time_limit, output_limit: self.longest }
    }

    /// Whatever comes of it, the trials show whether the engine works.
    fn warm_up(&self, env: &BTreeMap<String, String>) {
        self.warm.get_or_init(|| {
            if let Some(argv) = self.config.warm_up_command.as_ref().filter(|argv| !argv.is_empty()) {
                drop(run(&self.job(argv, env, None), &StopFlag::default()));
            }
        });
    }

    fn temporary_folder(&self) -> std::io::Result<TempDir> {
        fs::create_dir_all(&self.scratch)?;
        tempfile::Builder::new().prefix("trial-").tempdir_in(&self.scratch)
    }

    /// The outcome of a program that did not end well, or of which a rule says so.
    fn failed<T>(&self, program: &str, finished: &Finished, measured: &Measured) -> Option<Answer<T>> {
        let (outcome, detail) = match &finished.ending {
            Ending::Exited(status) => {
                let (stdout, stderr) = (&finished.stdout, &finished.stderr);
                let said =
                    String::from_utf8_lossy(stderr) + String::from_utf8_lossy(&stdout[..stdout.len().min(64 << 10)]);
                let code = status.code().and_then(|code| u16::try_from(code).ok());
                let json = || json::parse_bytes(stdout, &Wanted::of(rules::addresses(&self.config.outcomes))).ok();
                let json = if self.config.outcomes.is_empty() { None } else { json() };
                let said = rules::Said { status: code, json: json.as_ref(), text: &said };
                match rules::find(&self.config.outcomes, &said) {
                    Some(rule) if rule.outcome == Outcome::Done => return None,
                    Some(rule) => {
                        let how = failure(*status).unwrap_or_else(|| "by a rule of the bench file".to_owned());
                        let detail = with_words(how, &finished.stderr);
                        return Some(
                            Answer::failed(rule.outcome, detail).measured(measured.clone()).then(rule.then(None)),
                        );
                    }
                    None => (Outcome::Broken, failure(*status)?),
                }
            }
            Ending::NotStarted(error) => {
                let why = crate::process::start_reason(error);
                return Some(Answer::failed(Outcome::Unreachable, format!("cannot start \"{program}\": {why}")));
            }
            Ending::TimedOut => {
                (Outcome::Late, format!("did not end within the time limit of {} s", self.limits.total_s))
            }
            Ending::Flooded => (Outcome::Broken, format!("the program wrote more than {} MiB", self.longest >> 20)),
            Ending::Stopped => (Outcome::Stopped, "stopped before the program ended".to_owned()),
        };
        Some(Answer::failed(outcome, with_words(detail, &finished.stderr)).measured(measured.clone()))
    }

    fn text_result(&self, bytes: &[u8], task: Task) -> Result<Heard, String> {
        let text = std::str::from_utf8(bytes)
            .map_err(|error| format!("its result is not UTF-8 at byte {}", error.valid_up_to() + 1))?;
        if self.config.form(task) == ResultForm::Text {
            return heard_of_text(text);
        }
        let answer = json::parse(text, &Wanted::of(self.config.result.addresses())).map_err(|error| {
            format!("its result is not JSON ({error}): {}", cut(&text.chars().take(200).collect::<String>()))
        })?;
        self.config.result.heard(&answer)
    }
}

fn with_words(how: String, stderr: &[u8]) -> String {
    let said = cut(&String::from_utf8_lossy(stderr));
    if said.is_empty() { how } else { format!("{how}; its output: {said}") }
}

/// Reads the output file, whose size and kind the program alone decides.
fn read_output(path: &Path, longest: usize) -> Result<Vec<u8>, String> {
    regular::read(path, longest as u64).map_err(|error| match error.kind() {
        ErrorKind::NotFound => "the program ended without an error but wrote no output file".to_owned(),
        ErrorKind::FileTooLarge => format!("the program wrote more than {} MiB", longest >> 20),
        _ => format!("its output file cannot be read: {error}"),
    })
}

fn measured(finished: &Finished) -> Measured {
    Measured {
        took_ms: Some(finished.took.as_secs_f64() * 1e3),
        cpu_s: finished.cpu_s,
        peak_memory_kib: finished.peak_memory_kib,
        ..Measured::default()
    }
}

impl Engine for CommandEngine {
    fn given(&self) -> String {
        self.audio.described()
    }

    fn version(&self) -> Option<String> {
        let argv = self.config.version_command.as_ref().filter(|argv| !argv.is_empty())?;
        let time_limit = Duration::from_secs(10);
        let env = BTreeMap::new();
        let job = Job { argv, folder: &self.folder, env: &env, stdin: None, time_limit, output_limit: 1 << 20 };
        let finished = run(&job, &StopFlag::default());
        let text = String::from_utf8_lossy(&finished.stdout).into_owned();
        text.lines().map(str::trim).find(|line| !line.is_empty()).map(cut)
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let sound = match now(self.audio.prepare(request.audio)) {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        let HearRequest { clip_id, lang, form, stop, .. } = *request;
        let call =
            Call { clip_id, lang, form, text: None, ssml: None, earlier: &[], sound: Some(&sound), task: Task::Hear };
        match self.call(&call, stop) {
            // A rule may say that the program heard nothing.
            Err(failed @ Answer { outcome: Outcome::Nothing, .. }) => {
                Answer { value: Some(Heard::default()), ..failed }
            }
            Err(failed) => failed,
            Ok(raw) => match self.text_result(&raw.bytes, call.task) {
                Ok(heard) => heard_answer(heard, raw.measured),
                Err(why) => Answer::failed(Outcome::Broken, why).measured(raw.measured),
            },
        }
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let SpeakRequest { clip_id, lang, form, stop, text, .. } = *request;
        let ssml = Some(request.as_ssml());
        let call = Call { clip_id, lang, form, text: Some(text), ssml, earlier: &[], sound: None, task: Task::Speak };
        let raw = match self.call(&call, stop) {
            Ok(raw) => raw,
            Err(failed) => return failed,
        };
        match self.sound_result(raw.bytes) {
            Ok(sound) => spoken(Answer::with(Outcome::Done, sound, raw.measured)),
            Err(why) => Answer::failed(Outcome::Broken, why).measured(raw.measured),
        }
    }

    fn reply(&self, request: &SpeakRequest<'_>) -> Answer<String> {
        let SpeakRequest { clip_id, lang, form, stop, text, earlier, .. } = *request;
        let call =
            Call { clip_id, lang, form, text: Some(text), ssml: None, earlier, sound: None, task: Task::Reply };
        match self.call(&call, stop) {
            Err(failed) => failed,
            Ok(raw) => match self.text_result(&raw.bytes, call.task) {
                Ok(Heard { text, .. }) => Answer::with(outcome_of_words(&text), text, raw.measured),
                Err(why) => Answer::failed(Outcome::Broken, why).measured(raw.measured),
            },
        }
    }
}

impl CommandEngine {
    fn sound_result(&self, bytes: Vec<u8>) -> Result<Sound, String> {
        let result = &self.config.result;
        let Some(address) = result.audio.as_ref().filter(|_| self.config.form(Task::Speak) == ResultForm::Json)
        else {
            return sound(bytes, result.raw_rate_hz);
        };
        let answer = json::parse_bytes(&bytes, &Wanted::of([address]))
            .map_err(|error| format!("its result is not JSON: {error}"))?;
        let found = address.one(&answer).and_then(Value::as_str);
        let found = found.ok_or_else(|| format!("its result has no audio at {address}"))?;
        let bytes = from_base64(found)?;
        sound(bytes, result.raw_rate_hz)
    }
}
