//! `fonex engine probe`: one cheap call, and in plain words what works.

use clap::Args;
use std::collections::HashMap;
use std::fs;

use fonex_core::audio::{Audio, LEAST_VOICED_S, voiced_s};
use fonex_core::latency::Request;
use fonex_core::text::Label;
use fonex_core::{Clip, Heard, Outcome};
use fonex_engines::{Answer, Engine, EngineConfig, Form, HearRequest, SpeakRequest, Task};
use fonex_formats::audio::read_side;
use fonex_formats::{Problem, audio_path};
use serde::Serialize;

use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, milliseconds};
use fonex_run::Interrupt;
use fonex_run::with_engine;
use fonex_run::{Bench, read_bench};

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex engine probe marl")]
pub struct EngineProbeOptions {
    /// Engine of the bench file
    pub engine: String,
    /// Override a bench file value for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

/// One thing that was looked at.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Finding {
    what: &'static str,
    works: Works,
    why: String,
}

#[derive(Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
enum Works {
    Yes,
    No,
    Unknown,
}

impl Works {
    const fn word(self) -> &'static str {
        match self {
            Self::Yes => "yes",
            Self::No => "NO",
            Self::Unknown => "?",
        }
    }
}

/// What the call gave, whatever the engine does.
struct Probed {
    outcome: Outcome,
    detail: Option<String>,
    measured: fonex_engines::Measured,
    result: Option<Finding>,
    more: Vec<Finding>,
}

pub fn probe(options: &EngineProbeOptions) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let config = bench.engine(&options.engine)?;
    let probed = match config.task {
        Task::Hear => hear(&bench, config)?,
        Task::Speak | Task::Reply => text(&bench, config)?,
    };
    let findings = findings(config, &probed);
    match options.format.format {
        Format::Json => output::print_json(&findings)?,
        form => {
            let mut table = Table::new([("question", 0), ("answer", 0), ("how we know", 0)]);
            for finding in &findings {
                table.row([
                    Cell::text(finding.what),
                    Cell::text(finding.works.word()),
                    Cell::text(finding.why.as_str()),
                ]);
            }
            match form {
                Format::Table => {
                    output::print_lines(&format!(
                        "{}: {}\n{}",
                        options.engine,
                        probed.outcome,
                        output::text(&table)
                    ))?;
                }
                form => output::print_table(&table, form)?,
            }
        }
    }
    Ok(if findings.iter().any(|finding| finding.works == Works::No) { Code::TrialsFailed } else { Code::Done })
}

fn findings(config: &EngineConfig, probed: &Probed) -> Vec<Finding> {
    let requests = &probed.measured.traffic.requests;
    let answered = requests.iter().find(|request| request.status.is_some());
    let detail = probed.detail.clone().unwrap_or_default();
    let mut findings = vec![reachable(config, probed, answered, &detail)];
    if let Some(status) = answered.and_then(|request| request.status) {
        if !config.transport.variables().is_empty() {
            let refused = matches!(status, 401 | 403);
            let names = config.transport.variables().join(", ");
            let why = if refused { detail.clone() } else { format!("status {status} with {names}") };
            findings.push(Finding { what: "key accepted", works: if refused { Works::No } else { Works::Yes }, why });
        }
        if config.task == Task::Hear {
            let (works, why) = match status {
                415 => (Works::No, detail.clone()),
                _ if probed.outcome.is_answer() => (Works::Yes, config.audio.described()),
                _ => (Works::Unknown, "no answer to judge by".to_owned()),
            };
            findings.push(Finding { what: "audio format accepted", works, why });
        }
    }
    findings.push(match &probed.result {
        Some(_) => {
            Finding { what: "result understood", works: Works::Yes, why: format!("outcome {}", probed.outcome) }
        }
        None => Finding { what: "result understood", works: Works::No, why: format!("{}: {detail}", probed.outcome) },
    });
    let more = probed.result.iter().chain(&probed.more);
    findings.extend(more.map(|f| Finding { what: f.what, works: f.works, why: f.why.clone() }));
    let times = probed.measured.took_ms.map(|took| {
        let first = answered.and_then(|request| request.first_byte_ms).or(probed.measured.first_ms);
        let first = first.map_or_else(String::new, |first| format!("first byte after {}, ", milliseconds(first)));
        let ready = probed.measured.traffic.start_up_ms;
        let ready =
            ready.map_or_else(String::new, |ready| format!(", ready {} after its start", milliseconds(ready)));
        Finding {
            what: "answers in time",
            works: Works::Yes,
            why: format!("{first}all after {}{ready}", milliseconds(took)),
        }
    });
    findings.extend(times.filter(|_| probed.outcome.is_answer()));
    findings
}

fn reachable(config: &EngineConfig, probed: &Probed, answered: Option<&Request>, detail: &str) -> Finding {
    let leads_to = config.leads_to();
    let (works, why) = match (probed.outcome, answered) {
        (_, Some(request)) => {
            let opening = [request.lookup_ms, request.connect_ms, request.tls_ms].into_iter().flatten().sum::<f64>();
            (Works::Yes, format!("{leads_to}, connected in {}", milliseconds(opening)))
        }
        (Outcome::Unreachable, None) => (Works::No, detail.to_owned()),
        (_, None) if probed.measured.traffic.requests.is_empty() => (Works::Yes, leads_to),
        (_, None) => (Works::No, detail.to_owned()),
    };
    Finding { what: "reachable", works, why }
}

/// The shortest clip of the corpus in which somebody speaks, else a second of a hum that holds no words.
fn input(bench: &Bench) -> (Option<Clip>, Audio) {
    let hum = || {
        let sample = |i: u32| (i as f32 * 0.08).sin() * 0.1;
        Audio { rate_hz: 16_000, samples: (0..16_000).map(sample).collect() }
    };
    let Some(corpus) = bench.corpus.as_ref().and_then(|_| bench.read_corpus(None).ok()) else { return (None, hum()) };
    let mut clips: Vec<(u64, &Clip)> = corpus
        .clips
        .iter()
        .filter(|clip| clip.text.contains(char::is_alphanumeric))
        .filter_map(|clip| Some((fs::metadata(audio_path(&corpus.folder, clip)?).ok()?.len(), clip)))
        .collect();
    clips.sort_by_key(|(bytes, _)| *bytes);
    let read = |clip: &Clip| Some(read_side(&audio_path(&corpus.folder, clip)?, clip.side).ok()?.audio);
    // A label may stand beside silence; only a few are listened to.
    const LISTENED_TO: usize = 20;
    let heard = clips.iter().filter_map(|(_, clip)| Some((Some((*clip).clone()), read(clip)?)));
    let spoken = heard.clone().take(LISTENED_TO).find(|(_, audio)| voiced_s(audio) >= LEAST_VOICED_S);
    spoken.or_else(|| heard.into_iter().next()).unwrap_or_else(|| (None, hum()))
}

/// One call with the first voice and model.
fn built<T>(
    bench: &Bench,
    config: &EngineConfig,
    labels: HashMap<String, Clip>,
    call: impl FnOnce(&dyn Engine, Form<'_>) -> Answer<T>,
) -> Result<Answer<T>, Problem> {
    // One attempt: what fails at first is what a newcomer wants to see.
    let mut config = config.clone();
    config.retry.attempts = 1;
    let voice = config.voices.0.first().map(|voice| voice.id.as_str()).unwrap_or_default();
    let model = config.models.first().map(String::as_str).unwrap_or_default();
    with_engine(&config, bench, labels, |engine| call(engine, Form { voice, model, settings: &config.settings }))
}

fn hear(bench: &Bench, config: &EngineConfig) -> Result<Probed, Failure> {
    let (clip, audio) = input(bench);
    let labels = clip.iter().map(|clip| (clip.id.clone(), clip.clone())).collect();
    let interrupt = Interrupt::listen();
    let _heeding = interrupt.heed();
    let stop = interrupt.flag();
    let id = clip.as_ref().map_or("probe", |clip| clip.id.as_str());
    let lang = clip.as_ref().and_then(|clip| clip.lang.as_deref());
    let answer = built(bench, config, labels, |engine, form| {
        engine.hear(&HearRequest { clip_id: id, lang, audio: &audio, form, stop, live: None })
    })?;
    let heard = answer.value;
    let result = heard.as_ref().map(|heard| {
        let label = clip.as_ref().and_then(|clip| Label::parse(&clip.text).ok()).map(|label| label.first_reading());
        let label = label.map_or_else(String::new, |label| format!("; the label says \"{label}\""));
        let (works, said) = if heard.text.is_empty() {
            (Works::Unknown, "no words".to_owned())
        } else {
            (Works::Yes, format!("\"{}\"", heard.text))
        };
        Finding { what: "text", works, why: said + &label }
    });
    let more = heard.as_ref().map(|heard| vec![times(heard), confidences(heard)]).unwrap_or_default();
    Ok(Probed { outcome: answer.outcome, detail: answer.detail, measured: answer.measured, result, more })
}

fn times(heard: &Heard) -> Finding {
    let timed = heard.words.iter().filter(|word| word.start.is_some() && word.end.is_some()).count();
    let why = format!("{timed} of {} words have a start and an end", heard.words.len());
    Finding { what: "word times", works: if timed > 0 { Works::Yes } else { Works::Unknown }, why }
}

fn confidences(heard: &Heard) -> Finding {
    let sure = heard.words.iter().filter(|word| word.confidence.is_some()).count();
    let why = format!("{sure} of {} words have one between 0 and 1", heard.words.len());
    Finding { what: "confidences", works: if sure > 0 { Works::Yes } else { Works::Unknown }, why }
}

fn text(bench: &Bench, config: &EngineConfig) -> Result<Probed, Failure> {
    const TEXT: &str = "Good morning.";
    let interrupt = Interrupt::listen();
    let _heeding = interrupt.heed();
    let stop = interrupt.flag();
    if config.task == Task::Reply {
        let answer = built(bench, config, HashMap::new(), |engine, form| {
            engine.reply(&SpeakRequest::new("probe", Some("en"), TEXT, form, stop))
        })?;
        let result =
            answer.value.map(|text| Finding { what: "reply", works: Works::Yes, why: format!("\"{text}\"") });
        return Ok(Probed {
            outcome: answer.outcome,
            detail: answer.detail,
            measured: answer.measured,
            result,
            more: Vec::new(),
        });
    }
    let answer = built(bench, config, HashMap::new(), |engine, form| {
        engine.speak(&SpeakRequest::new("probe", Some("en"), TEXT, form, stop))
    })?;
    let result = answer.value.map(|audio| {
        let why = format!("{:.2} s at {} Hz for \"{TEXT}\"", audio.duration_s(), audio.rate_hz);
        Finding { what: "sound", works: if audio.duration_s() > 0.1 { Works::Yes } else { Works::No }, why }
    });
    Ok(Probed { outcome: answer.outcome, detail: answer.detail, measured: answer.measured, result, more: Vec::new() })
}
