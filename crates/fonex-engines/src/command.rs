//! The `command` transport: a program started for each trial.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use fonex_core::audio::{Audio, resample};
use fonex_core::{Heard, Outcome};
use fonex_formats::audio::{decode, encode_flac, encode_wav_bits};
use fonex_formats::{Place, Problem, nearest};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tempfile::TempDir;

use crate::mapping::{WordFields, heard_from};
use crate::process::{Ending, Finished, Job, failure, run};
use crate::template::{fill, values_in};
use crate::{Answer, Engine, Form, HearRequest, SpeakRequest, StopFlag, Task, cut};

/// How a program is called and how its result is read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CommandConfig {
    /// The program and its arguments, with values filled in; never passed through a shell.
    pub command: Vec<String>,
    /// What goes to its standard input.
    #[serde(default)]
    pub stdin: Stdin,
    /// Where and in which form its result comes.
    #[serde(default)]
    pub result: ResultConfig,
    /// A command whose first line of output names the engine's version.
    #[serde(default)]
    pub version_command: Option<Vec<String>>,
    /// Sample rate of the audio it is given; one channel.
    #[serde(default = "speech_rate")]
    pub audio_rate_hz: u32,
    /// Container of the audio it is given.
    #[serde(default)]
    pub audio_container: Container,
    /// Bits of each sample it is given: 16, 24 or 32 in WAV, 16 in FLAC.
    #[serde(default = "sixteen")]
    pub audio_bits: u16,
    /// Seconds after which it is ended.
    #[serde(default = "one_minute")]
    pub time_limit_s: f64,
}

const fn speech_rate() -> u32 {
    16_000
}

const fn sixteen() -> u16 {
    16
}

const fn one_minute() -> f64 {
    60.0
}

/// The container audio is given in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Container {
    /// RIFF WAVE.
    #[default]
    Wav,
    /// FLAC.
    Flac,
}

impl Container {
    const fn ending(self) -> &'static str {
        match self {
            Self::Wav => "wav",
            Self::Flac => "flac",
        }
    }
}

/// What goes to a program's standard input.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stdin {
    /// Nothing.
    #[default]
    Nothing,
    /// The text to speak.
    Text,
    /// The WAV file to hear.
    Audio,
}

/// Where a result comes and how it is read.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ResultConfig {
    /// In which form it comes; the default is plain text for recognisers and audio for synthesisers.
    #[serde(rename = "as")]
    pub form: Option<ResultForm>,
    /// JSON Pointer to the text.
    pub text: Option<String>,
    /// JSON Pointer to the list of words.
    pub words: Option<String>,
    /// Where the parts of a word stand inside an element of that list.
    pub word: WordFields,
}

/// The form of a result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ResultForm {
    /// The text as it is.
    Text,
    /// JSON with the text at a pointer.
    Json,
    /// Audio in any container that is read.
    Audio,
}

const OUTPUT_LIMIT: usize = 256 << 20;
const VALUES: [&str; 7] = ["audio", "text", "text_file", "output", "voice", "model", "lang"];
const SETTING: &str = "settings.";

impl CommandConfig {
    /// Checks what can be checked before the first trial.
    pub(crate) fn check(&self, task: Task, settings: &[String], place: &Place, field: &str) -> Result<(), Problem> {
        let at = |key: &str| place.clone().field(format!("{field}.{key}"));
        if self.command.first().is_none_or(String::is_empty) {
            return Err(
                Problem::new("the command is empty", at("command")).expected("a list: the program and its arguments")
            );
        }
        if !(self.time_limit_s > 0.0 && self.time_limit_s.is_finite()) {
            let what = format!("the time limit is {} s", self.time_limit_s);
            return Err(Problem::new(what, at("time_limit_s")).expected("a number of seconds above 0"));
        }
        if !(1_000..=768_000).contains(&self.audio_rate_hz) {
            let what = format!("a sample rate of {} Hz is not one of audio", self.audio_rate_hz);
            return Err(Problem::new(what, at("audio_rate_hz")).expected("1,000 to 768,000"));
        }
        let widths: &[u16] = if self.audio_container == Container::Wav { &[16, 24, 32] } else { &[16] };
        if !widths.contains(&self.audio_bits) {
            let what = format!("{} of {} bits cannot be given", self.audio_container.ending(), self.audio_bits);
            return Err(Problem::new(what, at("audio_bits")).expected("16, 24 or 32 bits in wav, 16 in flac"));
        }
        for (i, argument) in self.command.iter().enumerate() {
            for name in values_in(argument) {
                let known = match name.strip_prefix(SETTING) {
                    Some(setting) => settings.iter().any(|s| s == setting),
                    None => VALUES.contains(&name),
                };
                if !known {
                    let what = format!("the command uses the value \"{{{name}}}\", which does not exist");
                    let names = settings.iter().map(|setting| format!("{SETTING}{setting}"));
                    let names: Vec<String> = VALUES.iter().map(|v| (*v).to_owned()).chain(names).collect();
                    let problem = Problem::new(what, at(&format!("command[{i}]")))
                        .expected(format!("one of {}", names.join(", ")));
                    return Err(match nearest(name, names.iter().map(String::as_str)) {
                        Some(near) => problem.remedy(format!("write \"{{{near}}}\" if that is meant")),
                        None => problem.remedy("for a plain bracket, double it: {{"),
                    });
                }
            }
        }
        let (given, ways) = match task {
            Task::Hear => {
                (self.stdin == Stdin::Audio || self.uses("audio"), "{audio} in the command, or stdin = \"audio\"")
            }
            Task::Speak => {
                let given = self.stdin == Stdin::Text || self.uses("text") || self.uses("text_file");
                (given, "{text} or {text_file} in the command, or stdin = \"text\"")
            }
        };
        if !given {
            let what = format!("the command is never given what it should {}", task.as_str());
            return Err(Problem::new(what, at("command")).expected(ways));
        }
        self.check_result(task, &at)
    }

    fn check_result(&self, task: Task, at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        let form = self.form(task);
        let fits = match task {
            Task::Hear => matches!(form, ResultForm::Text | ResultForm::Json),
            Task::Speak => form == ResultForm::Audio,
        };
        if !fits {
            let problem =
                Problem::new(format!("an engine that {}s cannot give this result", task.as_str()), at("result.as"));
            return Err(problem.expected(if task == Task::Hear { "text or json" } else { "audio" }));
        }
        let pointers = [("text", &self.result.text), ("words", &self.result.words)];
        for (key, pointer) in pointers {
            let Some(pointer) = pointer else { continue };
            if form != ResultForm::Json {
                let problem = Problem::new("a pointer addresses JSON only", at(&format!("result.{key}")));
                return Err(problem.remedy("write as = \"json\" beside it, or remove it"));
            }
            if !pointer.is_empty() && !pointer.starts_with('/') {
                let problem =
                    Problem::new(format!("\"{pointer}\" is not a JSON Pointer"), at(&format!("result.{key}")));
                return Err(problem.expected("a path that starts with a slash, such as /result/text"));
            }
        }
        Ok(())
    }

    /// The audio as the program is given it.
    fn prepare(&self, audio: &Audio) -> Result<Vec<u8>, String> {
        let audio = resample(audio, self.audio_rate_hz).map_err(|error| error.to_string())?;
        let encoded = match self.audio_container {
            Container::Wav => encode_wav_bits(&audio, self.audio_bits),
            Container::Flac => encode_flac(&audio),
        };
        encoded.map_err(|error| error.to_string())
    }

    fn form(&self, task: Task) -> ResultForm {
        self.result.form.unwrap_or(match task {
            Task::Hear => ResultForm::Text,
            Task::Speak => ResultForm::Audio,
        })
    }

    fn uses(&self, value: &str) -> bool {
        self.command.iter().any(|argument| values_in(argument).any(|name| name == value))
    }
}

/// An engine that is a program.
pub struct CommandEngine {
    config: CommandConfig,
    folder: PathBuf,
    scratch: PathBuf,
}

/// What a trial puts into the command.
struct Call<'c> {
    lang: Option<&'c str>,
    form: Form<'c>,
    text: Option<&'c str>,
    sound: Option<&'c [u8]>,
}

/// The result of a program that went well, and what was measured of it.
type Raw = (Vec<u8>, Finished);

impl CommandEngine {
    /// An engine whose commands run in `folder` and whose temporary files live below `scratch`.
    #[must_use]
    pub const fn new(config: CommandConfig, folder: PathBuf, scratch: PathBuf) -> Self {
        Self { config, folder, scratch }
    }

    fn call<T>(&self, call: &Call<'_>, stop: &StopFlag) -> Result<Raw, Answer<T>> {
        let unusable =
            |error: std::io::Error| Answer::failed(Outcome::Stopped, format!("no temporary file: {error}"));
        let folder = self.temporary_folder().map_err(unusable)?;
        let file = |name: &str| folder.path().join(name);
        let config = &self.config;
        let audio_name = format!("audio.{}", config.audio_container.ending());
        if let Some(sound) = call.sound.filter(|_| config.uses("audio")) {
            fs::write(file(&audio_name), sound).map_err(unusable)?;
        }
        if let Some(text) = call.text.filter(|_| config.uses("text_file")) {
            fs::write(file("text.txt"), text).map_err(unusable)?;
        }
        let path = |name: &str| Some(file(name).display().to_string());
        let value = |name: &str| match name {
            "audio" => path(&audio_name),
            "text_file" => path("text.txt"),
            "output" => path("output"),
            "text" => call.text.map(str::to_owned),
            "voice" => Some(call.form.voice.to_owned()),
            "model" => Some(call.form.model.to_owned()),
            "lang" => call.lang.map(str::to_owned),
            setting => call.form.settings.get(setting.strip_prefix(SETTING)?).cloned(),
        };
        let argv: Vec<String> = config.command.iter().map(|argument| fill(argument, value)).collect();
        let stdin = match config.stdin {
            Stdin::Nothing => None,
            Stdin::Text => call.text.map(|text| text.as_bytes().to_vec()),
            Stdin::Audio => call.sound.map(<[u8]>::to_vec),
        };
        let time_limit = Duration::from_secs_f64(config.time_limit_s);
        let job = Job { argv: &argv, folder: &self.folder, stdin, time_limit, output_limit: OUTPUT_LIMIT };
        let mut finished = run(&job, stop);
        if let Some(failed) = self.failed(&argv[0], &finished) {
            return Err(failed);
        }
        let bytes = if config.uses("output") {
            read_output(&file("output")).map_err(|why| measured(Answer::failed(Outcome::Broken, why), &finished))?
        } else {
            std::mem::take(&mut finished.stdout)
        };
        Ok((bytes, finished))
    }

    fn temporary_folder(&self) -> std::io::Result<TempDir> {
        fs::create_dir_all(&self.scratch)?;
        tempfile::Builder::new().prefix("trial-").tempdir_in(&self.scratch)
    }

    /// The outcome of a program that did not end well.
    fn failed<T>(&self, program: &str, finished: &Finished) -> Option<Answer<T>> {
        let (outcome, detail) = match &finished.ending {
            Ending::Exited(status) => (Outcome::Broken, failure(*status)?),
            Ending::NotStarted(error) => {
                let why = error.to_string();
                let why = why.split(" (os error").next().unwrap_or_default().to_lowercase();
                return Some(Answer::failed(Outcome::Unreachable, format!("cannot start \"{program}\": {why}")));
            }
            Ending::TimedOut => {
                (Outcome::Late, format!("no end within the time limit of {} s", self.config.time_limit_s))
            }
            Ending::Flooded => (Outcome::Broken, format!("the program wrote more than {} MiB", OUTPUT_LIMIT >> 20)),
            Ending::Stopped => (Outcome::Stopped, "stopped before the program ended".to_owned()),
        };
        let said = cut(&String::from_utf8_lossy(&finished.stderr));
        let detail = if said.is_empty() { detail } else { format!("{detail}; it said: {said}") };
        Some(measured(Answer::failed(outcome, detail), finished))
    }
}

/// Reads the output file, whose size the program alone decides.
fn read_output(path: &Path) -> Result<Vec<u8>, String> {
    match fs::metadata(path) {
        Err(_) => Err("the program ended well but wrote no output file".to_owned()),
        Ok(metadata) if metadata.len() > OUTPUT_LIMIT as u64 => {
            Err(format!("the program wrote more than {} MiB", OUTPUT_LIMIT >> 20))
        }
        Ok(_) => fs::read(path).map_err(|error| format!("its output file cannot be read: {error}")),
    }
}

/// Adds what was measured of the program to an answer.
fn measured<T>(answer: Answer<T>, finished: &Finished) -> Answer<T> {
    let took_ms = Some(finished.took.as_secs_f64() * 1e3);
    Answer { took_ms, cpu_s: finished.cpu_s, peak_memory_kib: finished.peak_memory_kib, ..answer }
}

fn answered<T>(outcome: Outcome, value: T, finished: &Finished) -> Answer<T> {
    let answer =
        Answer { outcome, detail: None, value: Some(value), took_ms: None, cpu_s: None, peak_memory_kib: None };
    measured(answer, finished)
}

impl Engine for CommandEngine {
    fn given(&self) -> String {
        let CommandConfig { audio_rate_hz, audio_bits, audio_container, .. } = &self.config;
        format!("{} {audio_rate_hz} Hz {audio_bits} bit", audio_container.ending())
    }

    fn version(&self) -> Option<String> {
        let argv = self.config.version_command.as_ref().filter(|argv| !argv.is_empty())?;
        let time_limit = Duration::from_secs(10);
        let job = Job { argv, folder: &self.folder, stdin: None, time_limit, output_limit: 1 << 20 };
        let finished = run(&job, &StopFlag::default());
        let text = String::from_utf8_lossy(&finished.stdout).into_owned();
        text.lines().map(str::trim).find(|line| !line.is_empty()).map(cut)
    }

    fn hear(&self, request: &HearRequest<'_>) -> Answer<Heard> {
        let sound = match self.config.prepare(request.audio) {
            Ok(sound) => sound,
            Err(why) => return Answer::failed(Outcome::Refused, why),
        };
        let call = Call { lang: request.lang, form: request.form, text: None, sound: Some(&sound) };
        let (bytes, finished) = match self.call(&call, request.stop) {
            Ok(raw) => raw,
            Err(failed) => return failed,
        };
        match self.read_heard(&bytes) {
            Ok(heard) if heard.text.trim().is_empty() => answered(Outcome::Nothing, heard, &finished),
            Ok(heard) => answered(Outcome::Done, heard, &finished),
            Err(why) => measured(Answer::failed(Outcome::Broken, why), &finished),
        }
    }

    fn speak(&self, request: &SpeakRequest<'_>) -> Answer<Audio> {
        let call = Call { lang: request.lang, form: request.form, text: Some(request.text), sound: None };
        let (bytes, finished) = match self.call(&call, request.stop) {
            Ok(raw) => raw,
            Err(failed) => return failed,
        };
        match decode(bytes) {
            Ok(decoded) => answered(Outcome::Done, decoded.audio, &finished),
            Err(error) => measured(Answer::failed(Outcome::Broken, format!("its audio: {error}")), &finished),
        }
    }
}

impl CommandEngine {
    fn read_heard(&self, bytes: &[u8]) -> Result<Heard, String> {
        let text = std::str::from_utf8(bytes)
            .map_err(|error| format!("its result is not UTF-8 at byte {}", error.valid_up_to() + 1))?;
        if self.config.form(Task::Hear) == ResultForm::Text {
            let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
            return Ok(Heard { text, ..Heard::default() });
        }
        let answer: Value = serde_json::from_str(text).map_err(|error| {
            format!("its result is not JSON ({error}): {}", cut(&text.chars().take(200).collect::<String>()))
        })?;
        let result = &self.config.result;
        heard_from(&answer, result.text.as_deref().unwrap_or("/text"), result.words.as_deref(), &result.word)
    }
}
