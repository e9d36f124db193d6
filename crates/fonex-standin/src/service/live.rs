//! Live recognition and synthesis over a WebSocket.
//!
//! `/live`: `{"type":"start"}`, then audio as binary frames or `{"type":"audio","data":BASE64}`, then `{"type":"end"}` or
//! an empty binary frame. Back come `ready`, `interim`, `final`, `end_of_speech` and `done`. `/live-speak`:
//! `{"type":"text","text":...}`; back come binary frames and `done`.

use std::io;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::audio::Audio;
use futures_util::{SinkExt, StreamExt};
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::{Message, Role};

use super::asked::{Asked, raw_samples};
use super::fault::Fault;
use super::giving::raw;
use super::making::{FoundWords, heard, spoken};
use super::routes::allowed;
use super::wire::{Connection, Request};
use super::{Shared, wire};

/// Silence after which a speaker is taken to have ended, unless the request says otherwise.
const END_OF_SPEECH_MS: f64 = 600.0;

type Socket = WebSocketStream<TcpStream>;

/// Takes a connection over as a WebSocket and holds the conversation.
pub(super) async fn converse(mut connection: Connection, request: Request, shared: &Shared) -> io::Result<()> {
    let fault: Option<Fault> = request.query("fault").and_then(|name| name.parse().ok());
    let refusal =
        if allowed(&request, shared) { fault.and_then(Fault::status) } else { Fault::Unauthorized.status() };
    if let Some((status, words)) = refusal {
        let mut headers = vec![("content-type", "text/plain".to_owned())];
        if fault == Some(Fault::TooMany) {
            headers.push(("retry-after", request.query("retry_after").unwrap_or("1").to_owned()));
        }
        return connection.reply(status, &headers, words.as_bytes()).await;
    }
    match fault {
        Some(Fault::SlowFirstByte) => tokio::time::sleep(Duration::from_secs(60)).await,
        Some(Fault::Reset) => {
            connection.reset();
            return Ok(());
        }
        Some(Fault::NotHttp) => return connection.raw(b"\x00\x01 this is no HTTP\r\n\r\n").await,
        Some(Fault::WrongType) => {
            let kind = [("content-type", "text/html".to_owned())];
            return connection.reply(200, &kind, b"<html><body>Please sign in</body></html>").await;
        }
        _ => {}
    }
    let key = request.header("sec-websocket-key").unwrap_or_default();
    let accept = derive_accept_key(key.as_bytes());
    let head = format!(
        "HTTP/1.1 101 Switching Protocols\r\nconnection: upgrade\r\nupgrade: websocket\r\nsec-websocket-accept: {accept}\r\n\r\n"
    );
    connection.stream.write_all(head.as_bytes()).await?;
    let socket = WebSocketStream::from_raw_socket(connection.stream, Role::Server, None).await;
    let mut talk = Talk { socket, request: &request, shared, fault };
    let result = if request.path == "/live-speak" { talk.speak().await } else { talk.hear().await };
    // The client may be gone already; then there is nobody to say goodbye to.
    drop(talk.socket.close(None).await);
    result
}

struct Talk<'t> {
    socket: Socket,
    request: &'t Request,
    shared: &'t Shared,
    fault: Option<Fault>,
}

fn gone(error: impl std::fmt::Display) -> io::Error {
    io::Error::other(error.to_string())
}

/// What a client sends.
enum Given {
    Start(Value),
    Sound(Vec<u8>),
    End,
    Other,
}

fn given(message: &Message) -> Given {
    match message {
        Message::Binary(bytes) if bytes.is_empty() => Given::End,
        Message::Binary(bytes) => Given::Sound(bytes.to_vec()),
        Message::Text(text) => {
            let value: Value = serde_json::from_str(text).unwrap_or_default();
            match value["type"].as_str() {
                Some("start" | "text") => Given::Start(value),
                Some("audio") => {
                    Given::Sound(STANDARD.decode(value["data"].as_str().unwrap_or_default()).unwrap_or_default())
                }
                Some("end") => Given::End,
                _ => Given::Other,
            }
        }
        Message::Close(_) => Given::End,
        _ => Given::Other,
    }
}

impl Talk<'_> {
    async fn say(&mut self, value: Value) -> io::Result<()> {
        self.socket.send(Message::text(value.to_string())).await.map_err(gone)
    }

    fn wait(&self, name: &str, default_ms: f64) -> Duration {
        fonex_core::latency::span(self.request.number(name).unwrap_or(default_ms) / 1e3)
    }

    async fn hear(&mut self) -> io::Result<()> {
        let mut asked = Asked {
            engine: self.request.query("engine").unwrap_or_default().to_owned(),
            model: self.request.query("model").unwrap_or_default().to_owned(),
            clip: self.request.query("clip").unwrap_or_default().to_owned(),
            ..Asked::default()
        };
        let rate_hz = self.request.number("rate").map_or(super::ear::RATE_HZ, |rate| rate as u32).max(1);
        let mut sound = Audio { rate_hz, samples: Vec::new() };
        let mut progress = Progress::default();
        while let Some(message) = self.socket.next().await {
            match given(&message.map_err(gone)?) {
                Given::Start(value) => {
                    for (place, name) in
                        [(&mut asked.model, "model"), (&mut asked.clip, "clip"), (&mut asked.engine, "engine")]
                    {
                        if let Some(value) = value[name].as_str().filter(|value| !value.is_empty()) {
                            value.clone_into(place);
                        }
                    }
                    tokio::time::sleep(self.wait("ready_ms", 0.0)).await;
                    self.say(json!({"type": "ready"})).await?;
                }
                Given::Sound(bytes) => {
                    let skip =
                        if bytes.starts_with(b"RIFF") && sound.samples.is_empty() { 44.min(bytes.len()) } else { 0 };
                    sound.samples.extend(raw_samples(&bytes[skip..]));
                    self.go_on(&asked, &sound, &mut progress).await?;
                }
                Given::End => break,
                Given::Other => {}
            }
        }
        self.end(&asked, &sound).await
    }

    /// Says what can be said of the sound so far. Words appear once they have been heard whole; the newest is unsure.
    async fn go_on(&mut self, asked: &Asked, sound: &Audio, progress: &mut Progress) -> io::Result<()> {
        let heard_s = sound.duration_s();
        if heard_s < progress.next_s {
            return Ok(());
        }
        progress.next_s = heard_s + self.request.number("interim_ms").unwrap_or(100.0) / 1e3;
        let Ok(found) = heard(asked, sound, self.shared) else { return Ok(()) };
        let words: Vec<&str> = found.heard.words.iter().map(|word| word.text.as_str()).collect();
        let last_end_s = found.heard.words.iter().filter_map(|word| word.end).fold(0.0, f64::max);
        if words.len() > progress.words {
            progress.words = words.len();
            progress.ended = false;
            tokio::time::sleep(self.wait("wait_ms", 0.0)).await;
            self.say(json!({"type": "interim", "text": words.join(" ")})).await?;
        }
        let patience_s = self.request.number("end_of_speech_ms").unwrap_or(END_OF_SPEECH_MS) / 1e3;
        if !progress.ended && progress.words > 0 && heard_s - last_end_s >= patience_s {
            progress.ended = true;
            self.say(json!({"type": "end_of_speech", "at_s": heard_s})).await?;
        }
        Ok(())
    }

    async fn end(&mut self, asked: &Asked, sound: &Audio) -> io::Result<()> {
        let read_at = Instant::now();
        match self.fault {
            Some(Fault::Stalled) => tokio::time::sleep(Duration::from_secs(60)).await,
            Some(Fault::Truncated) => return Ok(()),
            Some(Fault::MalformedJson) => {
                drop(self.socket.send(Message::text("{\"type\": \"final\", \"text\": ")).await);
                return Ok(());
            }
            Some(Fault::InvalidUtf8) => {
                // A text frame of five bytes that are no text, below the library that would refuse to write it.
                return self.socket.get_mut().write_all(b"\x81\x05hold\xff").await;
            }
            Some(Fault::Endless) => loop {
                self.say(json!({"type": "interim", "text": "and ".repeat(100_000)})).await?;
            },
            Some(Fault::WrongLength) => {
                // A frame that states more than comes.
                return self.socket.get_mut().write_all(b"\x81\x7e\xff\xffhold").await;
            }
            _ => {}
        }
        let found = if self.fault == Some(Fault::Empty) {
            Ok(FoundWords { heard: fonex_core::Heard::default(), takes_s: 0.0, lang: None })
        } else {
            heard(asked, sound, self.shared)
        };
        match found {
            Ok(found) => {
                let takes = self.wait("wait_ms", found.takes_s * 1e3);
                tokio::time::sleep(takes.saturating_sub(read_at.elapsed())).await;
                let held_ms = read_at.elapsed().as_secs_f64() * 1e3;
                let FoundWords { heard, lang, .. } = found;
                self.say(json!({"type": "final", "text": heard.text, "words": heard.words, "language": lang, "held_ms": held_ms}))
                    .await?;
                self.say(json!({"type": "done"})).await
            }
            Err((status, message)) => self.say(json!({"type": "error", "status": status, "message": message})).await,
        }
    }

    async fn speak(&mut self) -> io::Result<()> {
        let text = loop {
            let Some(message) = self.socket.next().await else { return Ok(()) };
            if let Given::Start(value) = given(&message.map_err(gone)?) {
                break value;
            }
        };
        let string = |name: &str| text[name].as_str().unwrap_or_default().to_owned();
        let engine = self.request.query("engine").unwrap_or_default().to_owned();
        let asked = Asked { engine, voice: string("voice"), text: string("text"), ..Asked::default() };
        let spoken = match spoken(&asked, self.shared) {
            Ok(spoken) => spoken,
            Err((status, message)) => {
                return self.say(json!({"type": "error", "status": status, "message": message})).await;
            }
        };
        tokio::time::sleep(self.wait("wait_ms", spoken.takes_s * 1e3)).await;
        let pause = self.wait("chunk_ms", 5.0);
        let bytes = raw(&spoken.audio);
        let cut = if matches!(self.fault, Some(Fault::Truncated | Fault::Stalled)) { 1 } else { usize::MAX };
        for chunk in bytes.chunks(8_192).take(cut) {
            self.socket.send(Message::binary(chunk.to_vec())).await.map_err(gone)?;
            tokio::time::sleep(pause).await;
        }
        match self.fault {
            Some(Fault::Stalled) => tokio::time::sleep(Duration::from_secs(60)).await,
            Some(Fault::Truncated) => return self.socket.get_mut().write_all(&wire::head(500, &[], Some(0))).await,
            _ => {}
        }
        self.say(json!({"type": "done"})).await
    }
}

/// How far a live recognition has come.
#[derive(Default)]
struct Progress {
    next_s: f64,
    words: usize,
    ended: bool,
}
