//! From bytes and statuses to what a trial's answer is.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime};

use fonex_core::{Heard, Outcome};
use serde_json::Value;

use super::config::default_form;
use super::stream::StepReader;
use crate::captioned::heard_of_text;
use crate::json;
use crate::mapping::{ResultConfig, ResultForm, Steps, Wanted};
use crate::spoken::from_base64;
use crate::{RetryAdvice, Task, cut};

/// What an answer held.
#[derive(Default)]
pub(super) struct Reading {
    pub(super) heard: Heard,
    pub(super) sound: Vec<u8>,
    /// Where the sound is to be fetched.
    pub(super) link: Option<String>,
    pub(super) usage: Option<String>,
    /// The last step of a stream as it came.
    pub(super) last_step: Option<String>,
    pub(super) took_ms: f64,
    pub(super) first_ms: Option<f64>,
}

/// What came of an answer, as far as it is read.
#[derive(Clone, Copy)]
pub(super) struct Content<'a> {
    /// Its stated type.
    pub(super) kind: Option<&'a str>,
    pub(super) bytes: &'a [u8],
    /// Milliseconds from the start of the request to its first byte.
    pub(super) first_ms: Option<f64>,
}

/// Reads the body of an answer; `wanted` is what the addresses of `config` can find.
///
/// # Errors
/// What is wrong with it, in words.
pub(super) fn read(
    body: Content<'_>,
    steps: Option<StepReader<'_>>,
    form: ResultForm,
    config: &ResultConfig,
    wanted: &Wanted,
    task: Task,
    took: Duration,
) -> Result<Reading, String> {
    let took_ms = took.as_secs_f64() * 1e3;
    let mut reading = Reading { took_ms, ..Reading::default() };
    if let Some(steps) = steps {
        read_steps(steps, config, wanted, task, &mut reading)?;
        return Ok(reading);
    }
    match form {
        ResultForm::Audio => {
            if let Some(kind) =
                body.kind.filter(|kind| kind.starts_with("application/json") || kind.starts_with("text/"))
            {
                let said = cut(&String::from_utf8_lossy(&body.bytes[..body.bytes.len().min(2_000)]));
                return Err(format!("instead of audio it sent {kind}: {said}"));
            }
            reading.first_ms = body.first_ms;
            reading.sound = body.bytes.to_vec();
        }
        ResultForm::Text => {
            reading.heard = heard_of_text(utf8(body.bytes)?)?;
        }
        _ => read_json(&json_of(body, wanted)?, config, task, &mut reading)?,
    }
    Ok(reading)
}

/// Reads an answer whose pieces came at these moments, as a request to a service would.
///
/// # Errors
/// What is wrong with it, in words.
pub(crate) fn read_pieces<'b>(
    config: &ResultConfig,
    task: Task,
    pieces: impl Iterator<Item = (&'b [u8], Duration)>,
) -> Result<(Heard, Vec<u8>), String> {
    let form = config.form.unwrap_or_else(|| default_form(task));
    let mut steps = form.streams().then(|| StepReader::new(form, config));
    let (mut bytes, mut took) = (Vec::new(), Duration::ZERO);
    for (piece, at) in pieces {
        bytes.extend_from_slice(piece);
        took = at;
        if let Some(steps) = &mut steps {
            steps.feed(piece, at);
        }
    }
    if let Some(steps) = &mut steps {
        steps.finish(took);
    }
    let content = Content { kind: None, bytes: &bytes, first_ms: None };
    let wanted = Wanted::of(config.addresses());
    read(content, steps, form, config, &wanted, task, took).map(|reading| (reading.heard, reading.sound))
}

fn utf8(bytes: &[u8]) -> Result<&str, String> {
    std::str::from_utf8(bytes).map_err(|error| format!("its answer is not UTF-8 at byte {}", error.valid_up_to() + 1))
}

fn json_of(body: Content<'_>, wanted: &Wanted) -> Result<Value, String> {
    let text = utf8(body.bytes)?;
    if text.trim().is_empty() {
        return Err("its answer is empty".to_owned());
    }
    json::parse(text, wanted).map_err(|error| {
        let kind = body.kind.map_or_else(|| "no stated type".to_owned(), |kind| format!("stated type {kind}"));
        format!("its answer is not JSON ({error}; {kind}): {}", cut(&text.chars().take(200).collect::<String>()))
    })
}

fn read_json(value: &Value, config: &ResultConfig, task: Task, reading: &mut Reading) -> Result<(), String> {
    reading.usage = config.usage(value).or(reading.usage.take());
    if task != Task::Speak {
        reading.heard = config.heard(value)?;
        return Ok(());
    }
    let string = |address: &crate::Address| {
        let found = address.one(value).ok_or_else(|| format!("the answer has nothing at {address}"))?;
        found.as_str().map(str::to_owned).ok_or_else(|| format!("the value at {address} is not a string"))
    };
    if let Some(address) = &config.audio {
        reading.sound = from_base64(&string(address)?)?;
    } else if let Some(address) = &config.audio_link {
        reading.link = Some(string(address)?);
    }
    Ok(())
}

/// Steps that hold a text or sound count; others, such as the first of a stream, only frame it.
fn read_steps(
    steps: StepReader<'_>,
    config: &ResultConfig,
    wanted: &Wanted,
    task: Task,
    reading: &mut Reading,
) -> Result<(), String> {
    if let Some(fault) = steps.fault {
        return Err(fault);
    }
    if config.end_mark.is_some() && !steps.ended {
        return Err(format!("the stream ended without its end mark, after {} steps", steps.steps.len()));
    }
    let adds = config.steps.unwrap_or(if task == Task::Hear { Steps::Replace } else { Steps::Add }) == Steps::Add;
    let (mut found, count) = (false, steps.steps.len());
    for (i, step) in steps.steps.into_iter().enumerate() {
        let value = json::parse(&step.data, wanted).map_err(|error| {
            format!(
                "step {} of the stream is not JSON ({error}): {}",
                i + 1,
                cut(&step.data.chars().take(200).collect::<String>())
            )
        })?;
        let mut one = Reading::default();
        let holds = read_json(&value, config, task, &mut one).is_ok();
        reading.usage = one.usage.take().or(reading.usage.take());
        if holds {
            found = true;
            if !(one.heard.text.is_empty() && one.sound.is_empty()) {
                reading.first_ms.get_or_insert(step.at.as_secs_f64() * 1e3);
            }
            if adds {
                reading.heard.text += &one.heard.text;
                reading.heard.words.extend(one.heard.words);
            } else {
                reading.heard = one.heard;
            }
            reading.sound.extend(one.sound);
        }
        reading.last_step = Some(step.data);
    }
    if found || config.text_may_be_absent {
        return Ok(());
    }
    Err(match count {
        0 => "the stream ended before its first step".to_owned(),
        _ => format!("none of the {count} stream events holds the result"),
    })
}

/// What a status means where no rule says otherwise, and what may be done about it.
pub(crate) fn by_status(status: u16, said: &str, after: Option<Duration>) -> (Outcome, RetryAdvice) {
    let said = said.to_lowercase();
    let quota = ["quota", "credit", "insufficient funds", "billing"].iter().any(|word| said.contains(word));
    match status {
        402 => (Outcome::Refused, RetryAdvice::QuotaGone),
        403 | 429 if quota && after.is_none() => (Outcome::Refused, RetryAdvice::QuotaGone),
        429 => (Outcome::Refused, RetryAdvice::Repeat(after)),
        408 | 504 => (Outcome::Late, RetryAdvice::Leave),
        502 | 503 => (Outcome::Unreachable, RetryAdvice::Repeat(after)),
        400..=499 => (Outcome::Refused, RetryAdvice::Leave),
        _ => (Outcome::Broken, RetryAdvice::Leave),
    }
}

/// The wish of a `Retry-After` header: seconds, or a date (RFC 9110, section 10.2.3).
pub(crate) fn retry_after(header: Option<&str>) -> Option<Duration> {
    let header = header?.trim();
    let seconds = header.parse::<u32>().ok().map(|seconds| Duration::from_secs(seconds.into()));
    seconds.or_else(|| {
        let date = httpdate::parse_http_date(header).ok()?;
        Some(date.duration_since(SystemTime::now()).unwrap_or_default())
    })
}

pub(crate) fn status_detail(status: u16, said: &str, variables: &BTreeMap<String, String>) -> String {
    let meaning = match status {
        200..=299 => "a failure by the rules of the bench file",
        401 => "the key was not accepted",
        402 => "payment is needed",
        403 => "the key is not allowed to do this",
        404 => "there is nothing at this address",
        408 => "the service gave up waiting",
        413 => "the request is too large",
        415 => "this audio format is not accepted",
        429 => "too many requests",
        500 => "the service failed",
        502 | 503 => "the service is not available",
        504 => "a gateway of the service timed out",
        _ => "no answer to read",
    };
    let mut detail = format!("status {status}, {meaning}");
    if matches!(status, 401 | 403) && !variables.is_empty() {
        let names: Vec<&str> = variables.keys().map(String::as_str).collect();
        detail += &format!(" (look at {})", names.join(" and "));
    }
    let said = cut(&said.chars().take(400).collect::<String>());
    if said.is_empty() { detail } else { format!("{detail}: {said}") }
}
