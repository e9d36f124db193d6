//! `fonex try`: one clip or one sentence through one engine, now.

mod live;
mod page;
mod speaking;
mod voices;

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use clap::Args;
use fonex_core::accuracy::{ClipScore, score_clip};
use fonex_core::audio::{Audio, AudioMeasures};
use fonex_core::latency::{LiveEvent, Traffic};
use fonex_core::speech::SpeechMeasures;
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Heard, Outcome};
use fonex_engines::{Answer, Delivery, EngineConfig, Form, HearRequest, Live, SpeakRequest, StopFlag, Task, hear_by};
use fonex_formats::audio::read_side;
use fonex_formats::{Corpus, Place, Problem, audio_path, nearest};
use fonex_run::{Bench, Interrupt, read_bench, unknown, with_engine};
use serde::Serialize;

use crate::cli::{BenchArg, Format, FormatArg, seconds_above_zero};
use crate::failure::{Code, Failure};
use crate::output;
use page::page;
use speaking::speak;
use voices::HeardBy;

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex try tern radio-006               a clip of the corpus, scored against its label
  fonex try tern audio/radio-006.flac    an audio file
  fonex try osier \"Doors are closing.\"   a sentence, spoken into try.wav
  fonex try osier \"Doors are closing.\" --voice '*' --heard-by marl/river,tern   by every voice, and heard")]
pub struct TryOptions {
    /// Engine of the bench file
    pub engine: String,
    /// Clip id, audio file, - for audio on standard input; for a synthesiser, the text to speak
    pub input: String,
    /// Stream the audio in real time, as from a microphone, and show words as they arrive
    #[arg(long)]
    pub live: bool,
    /// With --live: seconds of audio sent per second
    #[arg(long, default_value_t = 1.0, value_name = "TIMES", value_parser = seconds_above_zero, requires = "live")]
    pub speed: f64,
    /// With --live: milliseconds of audio per frame
    #[arg(long, default_value_t = 100.0, value_name = "MS", value_parser = seconds_above_zero)]
    pub frame_ms: f64,
    /// With --live: send the first frame without waiting until the engine is ready
    #[arg(long)]
    pub no_wait: bool,
    /// With --live: give up when the engine has been silent for this many seconds
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub wait: Option<f64>,
    /// With --live: stop after this many seconds of audio
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub longest: Option<f64>,
    /// Sample rate of raw audio on standard input; by default the engine's
    #[arg(long, value_name = "HZ")]
    pub raw_hz: Option<u32>,
    /// Model; by default the engine's first
    #[arg(long)]
    pub model: Option<String>,
    /// Voices, or * for all; by default the engine's first
    #[arg(long, value_name = "VOICE,VOICE", value_delimiter = ',')]
    pub voice: Vec<String>,
    /// Have these recognisers hear what is spoken
    #[arg(long, value_name = "ENGINE,ENGINE", value_delimiter = ',')]
    pub heard_by: Vec<String>,
    /// Play what is spoken with the player of the bench file
    #[arg(long)]
    pub play: bool,
    /// Language, as a BCP 47 tag
    #[arg(long)]
    pub lang: Option<String>,
    /// Label to score against: what is said in the audio
    #[arg(long, value_name = "TEXT")]
    pub label: Option<String>,
    /// File for the spoken audio; with several voices, the voice is added to its name
    #[arg(short, long, value_name = "FILE", default_value = "try.wav")]
    pub output: PathBuf,
    /// Override a bench file value for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What came back, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Tried {
    engine: String,
    model: String,
    voice: String,
    outcome: Outcome,
    #[serde(skip_serializing_if = "Option::is_none")]
    detail: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    took_ms: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    first_ms: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    audio_s: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    rtf: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    cpu_s: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    peak_memory_kib: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    label: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    heard: Option<Heard>,
    #[serde(skip_serializing_if = "Option::is_none")]
    words: Option<fonex_core::align::EditCounts>,
    #[serde(skip_serializing_if = "Option::is_none")]
    measures: Option<AudioMeasures>,
    #[serde(skip_serializing_if = "Option::is_none")]
    speech: Option<SpeechMeasures>,
    /// For a terminal.
    #[serde(skip)]
    picture: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    heard_by: Vec<HeardBy>,
    #[serde(skip_serializing_if = "Option::is_none")]
    written: Option<PathBuf>,
    #[serde(skip_serializing_if = "Option::is_none")]
    replied: Option<String>,
    #[serde(skip_serializing_if = "Traffic::is_empty")]
    traffic: Traffic,
    #[serde(skip)]
    clip: Option<Clip>,
}

pub fn try_engine(options: &TryOptions) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let config = bench.engine(&options.engine)?;
    let model = choose("model", options.model.as_deref(), &config.models, &options.engine)?;
    let voices = voices::chosen(&options.voice, config)?;
    let interrupt = Interrupt::listen();
    let _heeding = interrupt.heed();
    let stop = interrupt.flag();
    let (mut all, mut answered, mut stopped) = (Vec::new(), true, false);
    for voice in &voices {
        let form = Form { voice, model: &model, settings: &config.settings };
        let tried = match config.task {
            Task::Hear => hear(options, &bench, config, form, stop)?,
            Task::Speak => {
                let output = voices::output_of(&options.output, voice, voices.len() > 1);
                speak(options, &bench, config, form, &output, stop)?
            }
            Task::Reply => reply(options, &bench, config, form, stop)?,
        };
        answered &= tried.outcome.is_answer();
        stopped |= tried.outcome == Outcome::Stopped && stop.is_set();
        if options.format.format == Format::Table {
            output::print_lines(&page(&tried, &bench.text_profile))?;
        }
        if let Some(path) = tried.written.as_ref().filter(|_| options.play) {
            voices::play(&bench, path)?;
        }
        all.push(tried);
        if stopped {
            break;
        }
    }
    if options.format.format != Format::Table {
        // One voice, one object, as for the other tasks.
        match all.as_slice() {
            [only] => output::print_json(only)?,
            several => output::print_json(&several)?,
        }
    }
    Ok(match (answered, stopped) {
        (true, _) => Code::Done,
        (false, true) => Code::Interrupted,
        (false, false) => Code::TrialsFailed,
    })
}

/// The model or voice asked for, else the first on offer.
fn choose(what: &str, typed: Option<&str>, offered: &[String], engine: &str) -> Result<String, Problem> {
    match typed {
        None => Ok(offered.first().cloned().unwrap_or_default()),
        Some(typed) if offered.iter().any(|o| o == typed) => Ok(typed.to_owned()),
        Some(typed) => {
            let what = format!("the engine \"{engine}\" has no {what} \"{typed}\"");
            Err(unknown(what, typed, offered, Place::default()))
        }
    }
}

/// What is to be heard: a clip of the corpus, or a file.
struct Input {
    clip: Clip,
    labelled: bool,
    audio: Audio,
}

fn hear(
    options: &TryOptions,
    bench: &Bench,
    config: &EngineConfig,
    form: Form<'_>,
    stop: &StopFlag,
) -> Result<Tried, Failure> {
    let mut recording = None;
    let input = if options.input == "-" {
        let takes_live = with_engine(config, bench, HashMap::new(), |engine| engine.takes_live())?;
        let audio = match live::from_stdin(options, config, takes_live)? {
            live::Input::Whole(audio) => audio,
            live::Input::Live(live) => {
                recording = Some(live);
                Audio { rate_hz: config.audio.rate_hz, samples: Vec::new() }
            }
        };
        let text = options.label.clone().unwrap_or_default();
        Label::parse(&text).map_err(|error| Problem::new(error.to_string(), Place::default().field("--label")))?;
        Input { clip: Clip { text, ..bare_clip("-") }, labelled: options.label.is_some(), audio }
    } else {
        find_input(options, bench)?
    };
    let lang = options.lang.as_deref().or(input.clip.lang.as_deref());
    let labels =
        if input.labelled { HashMap::from([(input.clip.id.clone(), input.clip.clone())]) } else { HashMap::new() };
    let watch = live::Watch::new(options.longest);
    let show = |event: &LiveEvent| watch.show(event);
    let live = (options.live || recording.is_some()).then(|| Live {
        pace: live::pace(options),
        recording: recording.as_ref(),
        watch: Some(&show),
    });
    let request = HearRequest { clip_id: &input.clip.id, lang, audio: &input.audio, form, stop, live };
    let answer = with_engine(config, bench, labels, |engine| match live {
        Some(live) if recording.is_none() => hear_by(Delivery::Live(live.pace), engine, &request),
        _ => engine.hear(&request),
    })?;
    let mut tried = tried(options, form, &answer);
    if recording.is_none() {
        tried.audio_s = Some(input.audio.duration_s());
        // Live, the time is that of speaking.
        let took_ms = tried.took_ms.filter(|_| live.is_none());
        tried.rtf = took_ms.map(|ms| ms / 1e3 / input.audio.duration_s());
    }
    tried.heard = answer.value;
    tried.clip = Some(input.clip.clone());
    if input.labelled {
        tried.words = tried.heard.as_ref().map(|heard| scored(&bench.text_profile, &input.clip.text, heard).words);
        tried.label = Some(input.clip.text);
    }
    Ok(tried)
}

/// A clip id of the bench file's corpus, else an audio file; a file of the corpus brings its label along.
fn find_input(options: &TryOptions, bench: &Bench) -> Result<Input, Failure> {
    let path = Path::new(&options.input);
    let corpus = match bench.corpus.as_ref().map(|_| bench.read_corpus(None)) {
        // A file needs no corpus.
        Some(Err(_)) if path.is_file() => None,
        other => other.transpose()?,
    };
    let known = corpus.as_ref().and_then(|corpus| find_clip(corpus, &options.input, path));
    let (clip, path) = match (known, &corpus) {
        (Some(clip), Some(corpus)) => {
            let path = audio_path(&corpus.folder, clip).unwrap_or_else(|| path.to_owned());
            (clip.clone(), path)
        }
        _ if path.is_file() => (bare_clip(&options.input), path.to_owned()),
        _ => {
            let problem =
                Problem::new(format!("\"{}\" is neither a clip nor a file", options.input), Place::default());
            let ids = corpus.iter().flat_map(|corpus| &corpus.clips).map(|clip| clip.id.as_str());
            return Err(match nearest(&options.input, ids) {
                Some(near) => problem.remedy(format!("write \"{near}\" if that clip is meant")).into(),
                None => problem.expected("a clip id of the corpus, or the path of an audio file").into(),
            });
        }
    };
    let decoded = read_side(&path, clip.side).map_err(|error| Problem::new(error.to_string(), Place::file(&path)))?;
    if let Some(defect) = &decoded.defect {
        output::caution(&format!("{}: {defect}", path.display()));
    }
    let text = options.label.clone().unwrap_or_else(|| clip.text.clone());
    Label::parse(&text).map_err(|error| Problem::new(error.to_string(), Place::default().field("--label")))?;
    let labelled = options.label.is_some() || known.is_some();
    Ok(Input { clip: Clip { text, ..clip }, labelled, audio: decoded.audio })
}

fn find_clip<'c>(corpus: &'c Corpus, id: &str, path: &Path) -> Option<&'c Clip> {
    let same_file = |clip: &&Clip| {
        let audio = audio_path(&corpus.folder, clip).and_then(|audio| audio.canonicalize().ok());
        audio.is_some_and(|audio| path.canonicalize().is_ok_and(|path| path == audio))
    };
    corpus.clip(id).or_else(|| corpus.clips.iter().filter(|_| path.is_file()).find(same_file))
}

fn bare_clip(id: &str) -> Clip {
    Clip { id: id.to_owned(), ..Clip::default() }
}

fn scored(profile: &TextProfile, label: &str, heard: &Heard) -> ClipScore {
    let label = Label::parse(label).expect("the label was checked when it was read");
    score_clip(profile, &label, &heard.text)
}

fn reply(
    options: &TryOptions,
    bench: &Bench,
    config: &EngineConfig,
    form: Form<'_>,
    stop: &StopFlag,
) -> Result<Tried, Failure> {
    let lang = options.lang.as_deref();
    let request = SpeakRequest::new("try", lang, &options.input, form, stop);
    let answer = with_engine(config, bench, HashMap::new(), |engine| engine.reply(&request))?;
    let mut tried = tried(options, form, &answer);
    tried.replied = answer.value;
    Ok(tried)
}

fn tried<T>(options: &TryOptions, form: Form<'_>, answer: &Answer<T>) -> Tried {
    Tried {
        engine: options.engine.clone(),
        model: form.model.to_owned(),
        voice: form.voice.to_owned(),
        outcome: answer.outcome,
        detail: answer.detail.clone(),
        took_ms: answer.measured.took_ms,
        first_ms: answer.measured.first_ms,
        audio_s: None,
        rtf: None,
        cpu_s: answer.measured.cpu_s,
        peak_memory_kib: answer.measured.peak_memory_kib,
        replied: None,
        traffic: answer.measured.traffic.clone(),
        label: None,
        heard: None,
        words: None,
        measures: None,
        speech: None,
        picture: String::new(),
        heard_by: Vec::new(),
        written: None,
        clip: None,
    }
}
