//! What a request asks for, in whatever form it comes.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::audio::Audio;
use fonex_formats::audio::decode;
use serde_json::Value;

use super::routes::JSON;
use super::wire::Request;

/// A refusal: status and words.
pub(super) type Refusal = (u16, String);

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

/// The parts of a request in whatever form they come: query, JSON, multipart, raw audio, text.
pub(super) fn asked(request: &Request) -> Result<Asked, Refusal> {
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
