//! HTTP/1.1 by hand (RFC 9112), because a faulty service has to break its rules in the middle.

use std::io;
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// A request with its whole body.
pub(super) struct Request {
    pub(super) method: String,
    pub(super) path: String,
    query: Vec<(String, String)>,
    headers: Vec<(String, String)>,
    pub(super) body: Vec<u8>,
}

impl Request {
    /// A header, by its name in lower case.
    pub(super) fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// A query value.
    pub(super) fn query(&self, name: &str) -> Option<&str> {
        self.query.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// A query value as a number.
    pub(super) fn number(&self, name: &str) -> Option<f64> {
        self.query(name)?.parse().ok().filter(|number: &f64| number.is_finite() && *number >= 0.0)
    }

    pub(super) fn wants_socket(&self) -> bool {
        self.header("upgrade").is_some_and(|value| value.eq_ignore_ascii_case("websocket"))
    }
}

/// One client.
pub(super) struct Connection {
    pub(super) stream: TcpStream,
    read: Vec<u8>,
}

const LONGEST_HEAD: usize = 64 << 10;
const LONGEST_BODY: usize = 256 << 20;

fn broken(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

impl Connection {
    pub(super) fn new(stream: TcpStream) -> Self {
        Self { stream, read: Vec::new() }
    }

    /// The next request; none when the client is done.
    pub(super) async fn read(&mut self) -> io::Result<Option<Request>> {
        loop {
            let mut headers = [httparse::EMPTY_HEADER; 64];
            let mut parsed = httparse::Request::new(&mut headers);
            let state = parsed.parse(&self.read).map_err(|_| broken("not HTTP"))?;
            let httparse::Status::Complete(head) = state else {
                if self.read.len() > LONGEST_HEAD {
                    return Err(broken("the head has no end"));
                }
                if self.stream.read_buf(&mut self.read).await? == 0 {
                    return Ok(None);
                }
                continue;
            };
            let target = parsed.path.unwrap_or("/");
            let (path, query) = target.split_once('?').unwrap_or((target, ""));
            let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
            let mut request = Request {
                method: parsed.method.unwrap_or_default().to_owned(),
                path: decoded(path),
                query: query
                    .split('&')
                    .filter(|pair| !pair.is_empty())
                    .map(|pair| pair.split_once('=').unwrap_or((pair, "")))
                    .map(|(key, value)| (decoded(key), decoded(value)))
                    .collect(),
                headers: parsed.headers.iter().map(|h| (h.name.to_ascii_lowercase(), text(h.value))).collect(),
                body: Vec::new(),
            };
            let length: usize = match request.header("content-length") {
                Some(length) => length.parse().map_err(|_| broken("no length"))?,
                None => 0,
            };
            if length > LONGEST_BODY {
                return Err(broken("the body is too long"));
            }
            if request.header("expect").is_some() {
                self.stream.write_all(b"HTTP/1.1 100 Continue\r\n\r\n").await?;
            }
            self.read.drain(..head);
            while self.read.len() < length {
                if self.stream.read_buf(&mut self.read).await? == 0 {
                    return Err(broken("the body broke off"));
                }
            }
            let rest = self.read.split_off(length);
            request.body = std::mem::replace(&mut self.read, rest);
            return Ok(Some(request));
        }
    }

    /// A whole answer with its length.
    pub(super) async fn reply(&mut self, status: u16, headers: &[(&str, String)], body: &[u8]) -> io::Result<()> {
        let mut bytes = head(status, headers, Some(body.len()));
        bytes.extend_from_slice(body);
        self.stream.write_all(&bytes).await
    }

    /// An answer in chunks, each after a pause.
    pub(super) async fn stream(
        &mut self,
        headers: &[(&str, String)],
        chunks: impl IntoIterator<Item = (Duration, Vec<u8>)>,
    ) -> io::Result<()> {
        self.stream.write_all(&head(200, headers, None)).await?;
        for (pause, chunk) in chunks {
            if !pause.is_zero() {
                tokio::time::sleep(pause).await;
            }
            if chunk.is_empty() {
                continue;
            }
            let mut bytes = format!("{:x}\r\n", chunk.len()).into_bytes();
            bytes.extend_from_slice(&chunk);
            bytes.extend_from_slice(b"\r\n");
            self.stream.write_all(&bytes).await?;
        }
        self.stream.write_all(b"0\r\n\r\n").await
    }

    /// Bytes as they are.
    pub(super) async fn raw(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.stream.write_all(bytes).await
    }

    /// Lets the connection end with a reset instead of a farewell: without lingering, closing discards what is unsent.
    pub(super) fn reset(&self) {
        // A connection that cannot be reset is closed, which is a fault as well.
        drop(self.stream.set_zero_linger());
    }
}

/// The head of an answer; without a length the body comes in chunks.
pub(super) fn head(status: u16, headers: &[(&str, String)], length: Option<usize>) -> Vec<u8> {
    let reason = match status {
        200 => "OK",
        202 => "Accepted",
        204 => "No Content",
        401 => "Unauthorized",
        429 => "Too Many Requests",
        500 => "Internal Server Error",
        503 => "Service Unavailable",
        _ => "Status",
    };
    let mut text = format!("HTTP/1.1 {status} {reason}\r\n");
    for (name, value) in headers {
        // What a client put into an address must not begin a header of its own.
        text += &format!("{name}: {}\r\n", value.replace(char::is_control, " "));
    }
    text += &match length {
        Some(length) => format!("content-length: {length}\r\n\r\n"),
        None => "transfer-encoding: chunked\r\n\r\n".to_owned(),
    };
    text.into_bytes()
}

/// Undoes percent-encoding; what is no such code stays as it is.
fn decoded(text: &str) -> String {
    let bytes = text.as_bytes();
    let (mut out, mut i) = (Vec::new(), 0);
    while i < bytes.len() {
        let code = bytes
            .get(i + 1..i + 3)
            .filter(|hex| hex.iter().all(u8::is_ascii_hexdigit))
            .and_then(|hex| u8::from_str_radix(std::str::from_utf8(hex).ok()?, 16).ok());
        match (bytes[i], code) {
            (b'%', Some(byte)) => {
                out.push(byte);
                i += 3;
            }
            (b'+', _) => {
                out.push(b' ');
                i += 1;
            }
            (byte, _) => {
                out.push(byte);
                i += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}
