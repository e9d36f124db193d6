//! How a result goes out: its form, its time, its fault.

use std::io;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::audio::Audio;
use fonex_formats::audio::encode_wav;
use serde_json::{Value, json};

use super::fault::Fault;
use super::jobs::Job;
use super::making::Made;
use super::routes::JSON;
use super::wire::{Connection, Request};
use super::{Shared, wire};

/// Gives a result in the form asked for, at its time, and with its fault.
pub(super) async fn give(
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
    let pause = fonex_core::latency::span(request.number("chunk_ms").unwrap_or(20.0) / 1e3);
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

pub(super) fn wav(audio: &Audio) -> Vec<u8> {
    encode_wav(audio).unwrap_or_default()
}

pub(super) fn raw(audio: &Audio) -> Vec<u8> {
    let sample = |s: &f32| ((s * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16).to_le_bytes();
    audio.samples.iter().flat_map(sample).collect()
}
