//! Opening a conversation: the connection, the handshake, and what its failure means.

use std::time::Duration;

use fonex_core::Outcome;
use fonex_core::latency::Request;
use tokio_tungstenite::tungstenite::client::IntoClientRequest;
use tokio_tungstenite::tungstenite::error::{Error, ProtocolError};
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;
use tokio_tungstenite::{WebSocketStream, client_async_with_config};

use super::SocketEngine;
use crate::net::{Clocked, NetFailure, Opening};
use crate::values::Values;

/// Opens the conversation; what opening took is noted in `asked`.
pub(super) async fn open(
    engine: &SocketEngine,
    values: &Values<'_>,
    asked: &mut Request,
) -> Result<WebSocketStream<Clocked>, NetFailure> {
    let config = &engine.config;
    let url = values.address(&config.url, &config.query).map_err(NetFailure::refused)?;
    // What cannot be asked for is refused before a connection is opened, as over HTTP.
    let address = url.to_uri(["ws", "wss"]).map_err(NetFailure::refused)?;
    let mut request = address.into_client_request().map_err(|error| NetFailure::refused(error.to_string()))?;
    for (name, value) in values.headers(&config.headers).map_err(NetFailure::refused)? {
        request.headers_mut().insert(name, value);
    }
    let mut opening = Opening::default();
    let opened = engine.net.open(&url.target, engine.limits.connect(), &mut opening).await;
    let milliseconds = |length: Option<Duration>| length.map(|length| length.as_secs_f64() * 1e3);
    asked.lookup_ms = milliseconds(opening.lookup);
    asked.connect_ms = milliseconds(opening.connect);
    asked.tls_ms = milliseconds(opening.tls);
    asked.reused = Some(false);
    let (stream, _) = opened?;
    // What is owed to a service that does not read is bounded as well: answers to its pings.
    let longest = usize::try_from(engine.longest).unwrap_or(usize::MAX);
    // A thousand conversations at once must not cost a thousand large buffers; longer messages are read in several goes.
    let sizes = WebSocketConfig::default()
        .read_buffer_size(8 << 10)
        .max_message_size(Some(longest))
        .max_frame_size(Some(longest))
        .max_write_buffer_size(16 << 20);
    let limits = &engine.limits;
    let shaken = tokio::time::timeout(limits.first_byte(), client_async_with_config(request, stream, Some(sizes)));
    let shaken = shaken.await.map_err(|_| {
        NetFailure::late(format!("no first byte within {} s of asking for a WebSocket", limits.first_byte_s))
    });
    match shaken? {
        Ok((socket, response)) => {
            asked.status = Some(response.status().as_u16());
            Ok(socket)
        }
        Err(error) => Err(handshake_failure(engine, asked, error)),
    }
}

fn handshake_failure(engine: &SocketEngine, asked: &mut Request, error: Error) -> NetFailure {
    let Error::Http(response) = error else {
        return NetFailure::broken(format!("no WebSocket: {}", reason(&error)));
    };
    let status = response.status().as_u16();
    asked.status = Some(status);
    let said = response.body().as_deref().map(String::from_utf8_lossy).unwrap_or_default().into_owned();
    let after = crate::http::retry_after(response.headers().get("retry-after").and_then(|value| value.to_str().ok()));
    let (outcome, then) = crate::http::by_status(status, &said, after);
    let detail = crate::http::status_detail(status, &said, &engine.variables);
    NetFailure { outcome: if status < 300 { Outcome::Broken } else { outcome }, detail, then }
}

/// What went wrong, in plain words.
pub(super) fn reason(error: &Error) -> String {
    match error {
        Error::Io(error) => crate::net::io_reason(error),
        Error::Protocol(ProtocolError::ResetWithoutClosingHandshake) => "the connection was cut".to_owned(),
        Error::Capacity(_) => "a message is longer than an answer may be".to_owned(),
        Error::Utf8(_) => "a text message is not UTF-8".to_owned(),
        other => other.to_string(),
    }
}
