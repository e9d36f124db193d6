//! What the service answers to which request.

use std::io;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::audio::{Audio, resample};
use fonex_core::stats::stream;
use fonex_formats::audio::{decode, encode_wav};
use rand::RngExt;
use serde_json::{Value, json};

use super::ear::RATE_HZ;
use super::fault::Fault;
use super::jobs::Job;
use super::wire::{Connection, Request};
use super::{Shared, wire};
use crate::{Behaviours, Speaking, hear, profile_of, reply, speak};

/// A refusal: status and words.
type Refusal = (u16, String);

/// What was asked, whatever form it came in.
#[derive(Default)]
pub(super) struct Asked {
    pub(super) engine: String,
    pub(super) model: String,
    pub(super) voice: String,
    pub(super) clip: String,
    pub(super) text: String,
    /// What the dialogue came to before.
    pub(super) earlier: String,
    pub(super) sound: Option<Audio>,
}

/// A result before it is put into a form.
struct Made {
    json: Value,
    pub(super) text: String,
    pub(super) sound: Option<Audio>,
    takes: Duration,
}

const JSON: &str = "application/json";

/// Answers one request; false when the connection is to be closed.
pub(super) async fn answer(
    connection: &mut Connection,
    request: &Request,
    shared: &Shared,
    read_at: Instant,
) -> io::Result<bool> {
    let refuse = |status: u16, what: &str| (status, json!({"error": {"message": what}}).to_string());
    if !allowed(request, shared) {
        let (status, body) = refuse(401, "the key is unknown");
        connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
        return Ok(true);
    }
    let count = shared.served.load(Ordering::Relaxed);
    let fault = match request.query("fault").filter(|name| !name.is_empty() && *name != "none") {
        Some(name) => match name.parse::<Fault>() {
            Ok(fault) => Some(fault),
            Err(what) => {
                let (status, body) = refuse(400, &what);
                connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
                return Ok(true);
            }
        },
        None => chance_fault(shared, count),
    };
    let over = shared.config.quota.is_some_and(|quota| count > quota);
    let fault = if over && request.method == "POST" { Some(Fault::Quota) } else { fault };
    if let Some((status, words)) = fault.and_then(Fault::status) {
        let mut headers = vec![("content-type", JSON.to_owned())];
        if fault == Some(Fault::TooMany) {
            headers.push(("retry-after", request.query("retry_after").unwrap_or("1").to_owned()));
        }
        let (_, body) = refuse(status, words);
        connection.reply(status, &headers, body.as_bytes()).await?;
        return Ok(true);
    }
    match (request.method.as_str(), request.path.as_str()) {
        ("GET", "/voices") => {
            connection.reply(200, &[("content-type", JSON.into())], voices(shared).to_string().as_bytes()).await?;
            Ok(true)
        }
        ("POST" | "GET", "/hear" | "/speak" | "/reply" | "/jobs")
            if request.method == "POST" || request.path == "/reply" =>
        {
            match make(request, shared) {
                Ok(made) if request.path == "/jobs" => submit(connection, request, shared, made, read_at).await,
                Ok(made) => give(connection, request, shared, made, fault, read_at).await,
                Err((status, what)) => {
                    let (status, body) = refuse(status, &what);
                    connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
                    Ok(true)
                }
            }
        }
        (method, path) if path.starts_with("/jobs/") || path.starts_with("/audio/") => {
            kept(connection, method, path, shared).await
        }
        _ => {
            let (status, body) = refuse(404, "hear, speak, reply, jobs, voices and live are served here");
            connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
            Ok(true)
        }
    }
}

pub(super) fn allowed(request: &Request, shared: &Shared) -> bool {
    let keys = &shared.config.keys;
    let given = request.header("authorization").and_then(|value| value.strip_prefix("Bearer "));
    keys.is_empty() || given.or(request.query("key")).is_some_and(|given| keys.iter().any(|key| key == given))
}

fn chance_fault(shared: &Shared, count: u64) -> Option<Fault> {
    let share = shared.config.fault_share;
    if share <= 0.0 {
        return None;
    }
    let mut random = stream(shared.config.seed, &["fault", &count.to_string()]);
    // Those that would only make a run wait are left to be asked for.
    let menu: Vec<Fault> = Fault::ALL
        .into_iter()
        .filter(|f| !matches!(f, Fault::SlowFirstByte | Fault::Stalled | Fault::Quota))
        .collect();
    (random.random::<f64>() < share).then(|| menu[random.random_range(0..menu.len())])
}

/// The parts of a request in whatever form they come: query, JSON, multipart, raw audio, text.
fn asked(request: &Request) -> Result<Asked, Refusal> {
    let query = |name: &str| request.query(name).unwrap_or_default().to_owned();
    let mut asked = Asked {
        engine: query("engine"),
        model: query("model"),
        voice: query("voice"),
        clip: request.header("x-clip").map_or_else(|| query("clip"), str::to_owned),
        text: query("text"),
        earlier: query("earlier"),
        sound: None,
    };
    let kind = request.header("content-type").unwrap_or_default();
    let mut bytes = None;
    if kind.starts_with(JSON) {
        let body: Value =
            serde_json::from_slice(&request.body).map_err(|error| (400, format!("not JSON: {error}")))?;
        let string = |name: &str| body[name].as_str().map(str::to_owned);
        for (place, name) in [
            (&mut asked.text, "text"),
            (&mut asked.earlier, "earlier"),
            (&mut asked.voice, "voice"),
            (&mut asked.model, "model"),
            (&mut asked.clip, "clip"),
        ] {
            if let Some(value) = string(name) {
                *place = value;
            }
        }
        if let Some(audio) = string("audio") {
            bytes = Some(STANDARD.decode(audio).map_err(|error| (400, format!("no Base64: {error}")))?);
        }
    } else if let Some(boundary) = kind.strip_prefix("multipart/form-data; boundary=") {
        for (name, value) in parts(&request.body, boundary) {
            let text = String::from_utf8_lossy(value).into_owned();
            match name.as_str() {
                "audio" | "file" => bytes = Some(value.to_vec()),
                "text" => asked.text = text,
                "voice" => asked.voice = text,
                "model" => asked.model = text,
                "clip" => asked.clip = text,
                _ => {}
            }
        }
    } else if kind.starts_with("text/") {
        asked.text = String::from_utf8_lossy(&request.body).into_owned();
    } else if !request.body.is_empty() {
        bytes = Some(request.body.clone());
    }
    if let Some(bytes) = bytes {
        let raw_rate = if kind == "application/octet-stream" { request.number("rate") } else { None };
        asked.sound = Some(sound_of(bytes, raw_rate)?);
    }
    Ok(asked)
}

fn sound_of(bytes: Vec<u8>, raw_rate: Option<f64>) -> Result<Audio, Refusal> {
    match raw_rate {
        Some(rate_hz) => Ok(Audio { rate_hz: (rate_hz as u32).max(1), samples: raw_samples(&bytes) }),
        None => decode(bytes).map(|decoded| decoded.audio).map_err(|error| (415, error.to_string())),
    }
}

pub(super) fn raw_samples(bytes: &[u8]) -> Vec<f32> {
    bytes.as_chunks::<2>().0.iter().map(|pair| f32::from(i16::from_le_bytes(*pair)) / 32_768.0).collect()
}

/// Names and values of a multipart form.
fn parts<'b>(body: &'b [u8], boundary: &str) -> Vec<(String, &'b [u8])> {
    let mark = format!("--{}", boundary.trim_matches('"')).into_bytes();
    let mut found = Vec::new();
    let mut starts = body.windows(mark.len()).enumerate().filter(|(_, w)| *w == mark.as_slice()).map(|(i, _)| i);
    let Some(mut start) = starts.next() else { return found };
    for end in starts {
        let part = &body[start + mark.len()..end];
        if let Some(at) = part.windows(4).position(|w| w == b"\r\n\r\n") {
            let head = String::from_utf8_lossy(&part[..at]).into_owned();
            let name = head.split("name=\"").nth(1).and_then(|rest| rest.split('"').next()).unwrap_or_default();
            let value = &part[at + 4..];
            found.push((name.to_owned(), value.strip_suffix(b"\r\n").unwrap_or(value)));
        }
        start = end;
    }
    found
}

fn make(request: &Request, shared: &Shared) -> Result<Made, Refusal> {
    let asked = asked(request)?;
    let task = if request.path == "/jobs" { request.query("do").unwrap_or("hear") } else { &request.path[1..] };
    let made = match task {
        "hear" => make_heard(&asked, shared)?,
        "speak" => make_sound(&asked, shared)?,
        "reply" => make_reply(&asked, shared)?,
        other => return Err((400, format!("do={other}: hear, speak and reply are served here"))),
    };
    Ok(match request.number("wait_ms") {
        Some(ms) => Made { takes: Duration::from_secs_f64(ms / 1e3), ..made },
        None => made,
    })
}

/// The engine asked for, or the first that fits.
fn engine<'s, T>(
    shared: &'s Shared,
    name: &str,
    fits: impl Fn(&'s Behaviours) -> Option<T>,
) -> Result<(&'s str, T), Refusal> {
    let mut engines = shared.config.engines.iter().filter(|(known, _)| name.is_empty() || *known == name);
    engines
        .find_map(|(known, behaviours)| Some((known.as_str(), fits(behaviours)?)))
        .ok_or_else(|| (404, format!("there is no engine {name:?} for this")))
}

fn make_heard(asked: &Asked, shared: &Shared) -> Result<Made, Refusal> {
    let Some(sound) = &asked.sound else { return Err((400, "there is no audio".to_owned())) };
    let found = heard(asked, sound, shared)?;
    let words: Vec<Value> = found.heard.words.iter().map(|word| json!(word)).collect();
    let lang = found.lang;
    Ok(Made {
        json: json!({
            "text": found.heard.text,
            "words": words,
            "language": lang,
            "usage": {"audio_s": (sound.duration_s() * 1e3).round() / 1e3},
        }),
        text: found.heard.text,
        sound: None,
        takes: Duration::from_secs_f64(found.takes_s),
    })
}

/// What a stand-in hears in a sound.
pub(super) struct FoundWords {
    pub(super) heard: fonex_core::Heard,
    pub(super) takes_s: f64,
    pub(super) lang: Option<String>,
}

pub(super) fn heard(asked: &Asked, sound: &Audio, shared: &Shared) -> Result<FoundWords, Refusal> {
    let (name, profiles) = engine(shared, &asked.engine, |behaviours| match behaviours {
        Behaviours::Hear(profiles) => Some(profiles),
        _ => None,
    })?;
    let sound = resample(sound, RATE_HZ).map_err(|error| (415, error.to_string()))?;
    let found = shared.ear.recognise(&sound.samples).or_else(|| shared.ear.named(&asked.clip));
    let Some(found) = found else {
        let silent = sound.samples.iter().all(|s| s.abs() < 0.004);
        if silent {
            return Ok(FoundWords { heard: fonex_core::Heard::default(), takes_s: 0.0, lang: None });
        }
        return Err((422, "a stand-in hears only clips whose label it was given".to_owned()));
    };
    let clip = shared.ear.stretch(found, sound.duration_s());
    let hearing = hear(&profile_of(profiles, &asked.model), shared.config.seed, name, &asked.model, &clip, &sound);
    Ok(FoundWords { heard: hearing.heard, takes_s: hearing.takes_s, lang: clip.lang })
}

fn make_sound(asked: &Asked, shared: &Shared) -> Result<Made, Refusal> {
    let spoken = spoken(asked, shared)?;
    let takes = Duration::from_secs_f64(spoken.takes_s);
    Ok(Made { json: Value::Null, text: String::new(), sound: Some(spoken.audio), takes })
}

/// What a stand-in says.
pub(super) fn spoken(asked: &Asked, shared: &Shared) -> Result<Speaking, Refusal> {
    let (_, profiles) = engine(shared, &asked.engine, |behaviours| match behaviours {
        Behaviours::Speak(profiles) => Some(profiles),
        _ => None,
    })?;
    if asked.text.trim().is_empty() {
        return Err((400, "there is no text".to_owned()));
    }
    Ok(speak(&profile_of(profiles, &asked.voice), shared.config.seed, &asked.voice, &asked.text))
}

fn make_reply(asked: &Asked, shared: &Shared) -> Result<Made, Refusal> {
    let (_, profiles) = engine(shared, &asked.engine, |behaviours| match behaviours {
        Behaviours::Reply(profiles) => Some(profiles),
        _ => None,
    })?;
    let profile = profile_of(profiles, &asked.model);
    let earlier = asked.earlier.split_whitespace().count();
    let replying = reply(&profile, shared.config.seed, &asked.model, &asked.text, earlier);
    let takes = Duration::from_secs_f64(replying.takes_s);
    Ok(Made { json: json!({"text": replying.text}), text: replying.text, sound: None, takes })
}

fn voices(shared: &Shared) -> Value {
    let voices = shared.config.engines.iter().filter_map(|(name, behaviours)| match behaviours {
        Behaviours::Speak(profiles) => Some((name, profiles)),
        _ => None,
    });
    let voices = voices.flat_map(|(name, profiles)| {
        profiles.iter().map(move |(voice, profile)| {
            let gender = if profile.pitch_hz > 160.0 { "female" } else { "male" };
            json!({"id": voice, "engine": name, "languages": ["en"], "gender": gender, "kind": "stand-in", "price": 0.000_016})
        })
    });
    json!({"voices": voices.collect::<Vec<_>>()})
}

fn wav(audio: &Audio) -> Vec<u8> {
    encode_wav(audio).unwrap_or_default()
}

pub(super) fn raw(audio: &Audio) -> Vec<u8> {
    let sample = |s: &f32| ((s * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16).to_le_bytes();
    audio.samples.iter().flat_map(sample).collect()
}

async fn submit(
    connection: &mut Connection,
    request: &Request,
    shared: &Shared,
    made: Made,
    read_at: Instant,
) -> io::Result<bool> {
    let (media_type, body) = match &made.sound {
        Some(sound) => ("audio/wav", wav(sound)),
        None => (JSON, made.json.to_string().into_bytes()),
    };
    let failed = request.query("state") == Some("failed");
    let job = Job { done_at: read_at + made.takes, media_type: if failed { "failed" } else { media_type }, body };
    let id = shared.jobs.lock().expect("no holder of this lock panics").keep(job);
    let body = json!({"job": {"id": id, "link": format!("/jobs/{id}")}, "state": "queued"}).to_string();
    connection.reply(202, &[("content-type", JSON.into())], body.as_bytes()).await?;
    Ok(true)
}

/// Jobs and sounds that are kept: `/jobs/ID`, `/jobs/ID/result`, `/audio/ID`.
async fn kept(connection: &mut Connection, method: &str, path: &str, shared: &Shared) -> io::Result<bool> {
    let mut segments = path.split('/').skip(2);
    let (id, result) = (segments.next().unwrap_or_default(), segments.next() == Some("result"));
    let (status, media_type, body) = {
        let mut jobs = shared.jobs.lock().expect("no holder of this lock panics");
        if method == "DELETE" {
            (if jobs.delete(id) { 204 } else { 404 }, JSON, Vec::new())
        } else {
            match jobs.get(id) {
                None => (404, JSON, br#"{"error":{"message":"there is no such job"}}"#.to_vec()),
                Some(job) if result || path.starts_with("/audio/") => (200, job.media_type, job.body.clone()),
                Some(job) => {
                    let state = match (job.done_at > Instant::now(), job.media_type) {
                        (true, _) => "running",
                        (false, "failed") => "failed",
                        (false, _) => "done",
                    };
                    (200, JSON, json!({"state": state}).to_string().into_bytes())
                }
            }
        }
    };
    connection.reply(status, &[("content-type", media_type.into())], &body).await?;
    Ok(true)
}

/// Gives a result in the form asked for, at its time, and with its fault.
async fn give(
    connection: &mut Connection,
    request: &Request,
    shared: &Shared,
    made: Made,
    fault: Option<Fault>,
    read_at: Instant,
) -> io::Result<bool> {
    if fault == Some(Fault::SlowFirstByte) {
        tokio::time::sleep(Duration::from_secs(60)).await;
    }
    let form = request.query("answer").unwrap_or_default();
    let (media_type, body) = whole_body(form, &made, shared);
    if let Some(fault) = fault {
        return faulty(connection, fault, media_type, body, &made).await;
    }
    // Even a sleep of no length lasts until the timer's next tick.
    let rest = (read_at + made.takes).saturating_duration_since(Instant::now());
    if !rest.is_zero() {
        tokio::time::sleep(rest).await;
    }
    let held_ms = read_at.elapsed().as_secs_f64() * 1e3;
    let mut headers =
        vec![("content-type", media_type.to_owned()), ("server-timing", format!("held;dur={held_ms:.3}"))];
    let pause = Duration::from_secs_f64(request.number("chunk_ms").unwrap_or(20.0) / 1e3);
    match form {
        "events" | "lines" => {
            let steps = steps(&made, request.path == "/reply");
            let frame = |step: &Value| match form {
                "events" => format!("data: {step}\n\n").into_bytes(),
                _ => format!("{step}\n").into_bytes(),
            };
            let mut chunks: Vec<(Duration, Vec<u8>)> = steps.iter().map(|step| (pause, frame(step))).collect();
            if let Some(first) = chunks.first_mut() {
                first.0 = Duration::ZERO;
            }
            if form == "events" {
                chunks.push((Duration::ZERO, b"data: [END]\n\n".to_vec()));
            }
            connection.stream(&headers, chunks).await?;
        }
        "chunked" | "raw" => {
            let size = (body.len() / 10).clamp(1, 8_192).next_multiple_of(2);
            let pauses = std::iter::once(Duration::ZERO).chain(std::iter::repeat(pause));
            connection.stream(&headers, pauses.zip(body.chunks(size).map(<[u8]>::to_vec))).await?;
        }
        _ => {
            let mut body = body;
            if request.query("gzip").is_some() {
                headers.push(("content-encoding", "gzip".to_owned()));
                body = gzipped(&body);
            }
            connection.reply(200, &headers, &body).await?;
        }
    }
    Ok(true)
}

fn whole_body(form: &str, made: &Made, shared: &Shared) -> (&'static str, Vec<u8>) {
    let Some(sound) = &made.sound else {
        return match form {
            "text" => ("text/plain; charset=utf-8", made.text.clone().into_bytes()),
            "events" => ("text/event-stream", Vec::new()),
            "lines" => ("application/x-ndjson", Vec::new()),
            _ => (JSON, made.json.to_string().into_bytes()),
        };
    };
    match form {
        "raw" => ("application/octet-stream", raw(sound)),
        "json" => {
            (JSON, json!({"audio": STANDARD.encode(wav(sound)), "usage": {"characters": 1}}).to_string().into_bytes())
        }
        "link" => {
            let job = Job { done_at: Instant::now(), media_type: "audio/wav", body: wav(sound) };
            let id = shared.jobs.lock().expect("no holder of this lock panics").keep(job);
            (JSON, json!({"link": format!("/audio/{id}")}).to_string().into_bytes())
        }
        _ => ("audio/wav", wav(sound)),
    }
}

/// The steps of a stream: a responder adds word by word, a recogniser says more each time and marks the last.
fn steps(made: &Made, adds: bool) -> Vec<Value> {
    if adds {
        let words: Vec<&str> = made.text.split_inclusive(' ').collect();
        return words.iter().map(|word| json!({"text": word})).collect();
    }
    let words: Vec<&str> = made.text.split(' ').collect();
    let interim = (1..words.len()).map(|n| json!({"text": words[..n].join(" "), "final": false}));
    let mut last = made.json.clone();
    last["final"] = json!(true);
    interim.chain([last]).collect()
}

fn gzipped(body: &[u8]) -> Vec<u8> {
    use std::io::Write;
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    // Writing to memory does not fail.
    drop(writer.write_all(body));
    writer.finish().unwrap_or_default()
}

async fn faulty(
    connection: &mut Connection,
    fault: Fault,
    media_type: &'static str,
    body: Vec<u8>,
    made: &Made,
) -> io::Result<bool> {
    let kind = |kind: &str| [("content-type", kind.to_owned())];
    let body = if body.is_empty() { made.json.to_string().into_bytes() } else { body };
    let half = &body[..body.len() / 2];
    match fault {
        Fault::Stalled => {
            connection.raw(&wire::head(200, &kind(media_type), Some(body.len()))).await?;
            connection.raw(half).await?;
            tokio::time::sleep(Duration::from_secs(60)).await;
            Ok(false)
        }
        Fault::Reset => {
            connection.reset();
            Ok(false)
        }
        Fault::Truncated => {
            connection.raw(&wire::head(200, &kind(media_type), Some(body.len()))).await?;
            connection.raw(half).await?;
            Ok(false)
        }
        Fault::WrongLength => {
            connection.raw(&wire::head(200, &kind(media_type), Some(half.len()))).await?;
            connection.raw(&body).await?;
            Ok(false)
        }
        Fault::NotHttp => {
            connection.raw(b"\x00\x01 this is no HTTP\r\n\r\n").await?;
            Ok(false)
        }
        Fault::Endless => {
            connection.raw(&wire::head(200, &kind(media_type), None)).await?;
            let chunk = [b"10000\r\n".as_slice(), &vec![b' '; 0x10000], b"\r\n"].concat();
            loop {
                connection.raw(&chunk).await?;
            }
        }
        Fault::MalformedJson => {
            connection.reply(200, &kind(JSON), br#"{"text": "hold at"#).await?;
            Ok(true)
        }
        Fault::WrongType => {
            connection.reply(200, &kind("text/html"), b"<html><body>Please sign in</body></html>").await?;
            Ok(true)
        }
        Fault::Empty => {
            let empty = if made.sound.is_some() { Vec::new() } else { br#"{"text": "", "words": []}"#.to_vec() };
            connection.reply(200, &kind(media_type), &empty).await?;
            Ok(true)
        }
        Fault::InvalidUtf8 => {
            connection.reply(200, &kind(media_type), b"{\"text\": \"hold \xff\xfe at\"}").await?;
            Ok(true)
        }
        Fault::BrokenAudio => {
            connection
                .reply(200, &kind("audio/wav"), b"RIFF\xff\xff\xff\xffWAVEfmt \x10\0\0\0\x01\0\0\0\0\0\0\0")
                .await?;
            Ok(true)
        }
        _ => Ok(false),
    }
}
