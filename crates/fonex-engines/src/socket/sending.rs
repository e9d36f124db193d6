//! What is sent to a live service and when: start, frames, end, and what keeps the connection alive.

use std::sync::OnceLock;
use std::time::Instant;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::latency::Pacing;
use futures_util::SinkExt;
use futures_util::stream::SplitSink;
use serde_json::Value;
use tokio::sync::{Mutex, Notify};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::protocol::Message;

use super::opening::reason;
use super::rules::Meaning;
use super::{Given, SocketEngine};
use crate::net::{Clocked, NetFailure};
use crate::values::Values;
use crate::{Frame, Frames};

pub(super) type Sink = SplitSink<WebSocketStream<Clocked>, Message>;

/// Sends start, audio or text, and end; gives the bytes sent.
pub(super) async fn send_all(
    engine: &SocketEngine,
    values: Values<'_>,
    given: Given<'_>,
    sink: &Mutex<Sink>,
    (ready, (began, begun), ended): (&Notify, (&OnceLock<Instant>, &Notify), &OnceLock<Instant>),
) -> Result<(u64, Pacing), NetFailure> {
    let config = &engine.config;
    let (mut bytes, mut pacing) = (0, Pacing::default());
    let message = |template: &Value, values: &Values<'_>| text_of(&values.fill_json(template));
    if let Some(start) = &config.start {
        bytes += send(sink, Message::text(message(start, &values))).await?;
    }
    let careless = matches!(given, Given::Live(_, live, _) if live.pace.no_wait);
    if config.has(Meaning::Ready) && !careless {
        ready.notified().await;
    }
    match given {
        Given::Text(request) => {
            let mut values = values.clone();
            values.set("text", request.text);
            values.set("ssml", request.as_ssml());
            values.set("earlier", request.earlier.join("\n"));
            if let Some(template) = &config.text {
                bytes += send(sink, Message::text(message(template, &values))).await?;
            }
        }
        Given::Sound(sound, frame) => {
            let mut values = values.clone();
            for part in sound.chunks(frame) {
                bytes += send(sink, frame_of(config.audio.as_ref(), &mut values, part)).await?;
            }
        }
        Given::Live(sound, live, bytes_a_second) => {
            let mut values = values.clone();
            let mut frame = |part: &[u8]| frame_of(config.audio.as_ref(), &mut values, part);
            let frames = Frames::new(sound, live, bytes_a_second, *began.get_or_init(Instant::now));
            begun.notify_one();
            let sent = send_live(frames, sink, &mut frame).await?;
            bytes += sent.0;
            pacing = sent.1;
        }
    }
    match (&config.end, given) {
        (Some(end), _) => bytes += send(sink, Message::text(message(end, &values))).await?,
        (None, Given::Sound(..) | Given::Live(..)) => bytes += send(sink, Message::binary(Vec::new())).await?,
        (None, Given::Text(_)) => {}
    }
    let _ = ended.set(Instant::now());
    Ok((bytes, pacing))
}

/// A frame of audio as a message.
fn frame_of(template: Option<&Value>, values: &mut Values<'_>, part: &[u8]) -> Message {
    match template {
        None => Message::binary(part.to_vec()),
        Some(template) => {
            values.set("audio_base64", STANDARD.encode(part));
            Message::text(text_of(&values.fill_json(template)))
        }
    }
}

/// Sends frames when a microphone would have recorded them.
async fn send_live(
    mut frames: Frames<'_>,
    sink: &Mutex<Sink>,
    message: &mut impl FnMut(&[u8]) -> Message,
) -> Result<(u64, Pacing), NetFailure> {
    let mut bytes = 0;
    loop {
        tokio::time::sleep_until(frames.due().into()).await;
        match frames.next() {
            Frame::Audio { part, last } => {
                bytes += send(sink, message(&part)).await?;
                if last {
                    break;
                }
            }
            Frame::Nothing => {}
            Frame::Over => break,
        }
    }
    Ok((bytes, frames.pacing()))
}

/// A message that is a string is sent as it stands, anything else as JSON.
fn text_of(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

async fn send(sink: &Mutex<Sink>, message: Message) -> Result<u64, NetFailure> {
    let bytes = message.len() as u64;
    let sent = sink.lock().await.send(message).await;
    sent.map(|()| bytes).map_err(|error| NetFailure::broken(format!("the service takes no more: {}", reason(&error))))
}

/// Never ends; without a wish to keep alive it only waits.
pub(super) async fn keep_alive(engine: &SocketEngine, values: Values<'_>, sink: &Mutex<Sink>) {
    let Some(keep) = &engine.config.keep_alive else { return std::future::pending().await };
    loop {
        tokio::time::sleep(fonex_core::latency::span(keep.every_s)).await;
        let message = match &keep.send {
            None => Message::Ping(Vec::new().into()),
            Some(template) => Message::text(text_of(&values.fill_json(template))),
        };
        // A connection that is gone shows itself where messages are received.
        drop(send(sink, message).await);
    }
}
