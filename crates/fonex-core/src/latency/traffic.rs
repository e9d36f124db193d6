//! What went over the wire during one trial, and when. Moments come from a monotonic clock.

use serde::{Deserialize, Serialize};

use super::LiveLog;
use crate::Outcome;

/// Everything that was exchanged with an engine for one trial, its failed attempts included.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Traffic {
    /// The requests, in the order they were begun.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub requests: Vec<Request>,
    /// Arrival of each piece of the answer of the last request.
    #[serde(skip_serializing_if = "Arrivals::is_empty")]
    pub arrivals: Arrivals,
    /// Milliseconds from the start of a long-lived program until it was ready, when this trial started it. Not part of
    /// the time the trial took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_up_ms: Option<f64>,
    /// Lines the engine wrote that belong to no answer; the first few.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub noise: Vec<String>,
    /// What the engine said it used up, in its own words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub usage: Option<String>,
    /// What came back while audio was delivered live.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub live: Option<Box<LiveLog>>,
    /// Pieces the audio or text was cut into, where it was not sent whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pieces: Option<u32>,
}

impl Traffic {
    /// Whether nothing was noted.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Adds what a later call for the same trial exchanged.
    pub fn append(&mut self, later: Self) {
        self.requests.extend(later.requests);
        if !later.arrivals.is_empty() {
            self.arrivals = later.arrivals;
        }
        self.start_up_ms = self.start_up_ms.or(later.start_up_ms);
        self.noise.extend(later.noise);
        self.usage = later.usage.or(self.usage.take());
        self.live = later.live.or(self.live.take());
        self.pieces = later.pieces.or(self.pieces);
    }
}

/// One request and its phases.
///
/// `lookup_ms`, `connect_ms` and `tls_ms` are lengths, absent on a connection that was there already; `sent_ms`,
/// `first_byte_ms` and `last_byte_ms` are moments counted from the start of the request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Request {
    /// What it was for: `ask`, `submit`, `poll`, `fetch`, `delete`.
    pub purpose: String,
    /// Which attempt at the trial it belongs to, from 1.
    pub attempt: u32,
    /// How it ended.
    pub outcome: Outcome,
    /// What went wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// Status of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// Whether the connection had served a request before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reused: Option<bool>,
    /// Look-up of the name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lookup_ms: Option<f64>,
    /// Opening of the connection, a proxy's included.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_ms: Option<f64>,
    /// TLS handshake.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls_ms: Option<f64>,
    /// The whole request was handed to the connection.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sent_ms: Option<f64>,
    /// The head of the answer was there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_byte_ms: Option<f64>,
    /// The answer was complete, or broke off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_byte_ms: Option<f64>,
    /// Bytes of the request's body.
    pub sent_bytes: u64,
    /// Bytes of the answer's body as they came, before any decompression.
    pub received_bytes: u64,
    /// What the service says it took, from its `Server-Timing` header (W3C Server Timing).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub service: Vec<ServiceTime>,
}

impl Request {
    /// A request that has only begun.
    #[must_use]
    pub fn begun(purpose: &str, sent_bytes: u64) -> Self {
        Self {
            purpose: purpose.to_owned(),
            attempt: 1,
            outcome: Outcome::Done,
            detail: None,
            status: None,
            reused: None,
            lookup_ms: None,
            connect_ms: None,
            tls_ms: None,
            sent_ms: None,
            first_byte_ms: None,
            last_byte_ms: None,
            sent_bytes,
            received_bytes: 0,
            service: Vec::new(),
        }
    }

    /// Time the service says it worked: the longest of its own figures, since they may overlap.
    #[must_use]
    pub fn service_ms(&self) -> Option<f64> {
        self.service.iter().filter_map(|s| s.ms).max_by(f64::total_cmp)
    }

    /// Time from the whole request being sent to the first byte, less what the service says it worked: what the network
    /// and the waiting before the service took. None where the service does not tell.
    #[must_use]
    pub fn network_ms(&self) -> Option<f64> {
        Some((self.first_byte_ms? - self.sent_ms? - self.service_ms()?).max(0.0))
    }
}

/// One entry of a `Server-Timing` header.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ServiceTime {
    /// Its name.
    pub name: String,
    /// Its duration in milliseconds, where given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms: Option<f64>,
}

/// Reads a `Server-Timing` header: `cache;desc="hit", work;dur=23.2`. What cannot be read is passed over.
#[must_use]
pub fn server_timing(header: &str) -> Vec<ServiceTime> {
    split_unquoted(header, ',')
        .filter_map(|entry| {
            let mut parts = split_unquoted(entry, ';').map(str::trim);
            let name = parts.next().filter(|name| !name.is_empty())?.to_owned();
            let ms = parts.find_map(|part| {
                let (key, value) = part.split_once('=')?;
                let number = value.trim().trim_matches('"').parse::<f64>().ok()?;
                (key.trim().eq_ignore_ascii_case("dur") && number.is_finite()).then_some(number)
            });
            Some(ServiceTime { name, ms })
        })
        .collect()
}

/// Splits at a sign that does not stand inside double quotes.
fn split_unquoted(text: &str, sign: char) -> impl Iterator<Item = &str> {
    let mut quoted = false;
    text.split(move |c| {
        quoted ^= c == '"';
        c == sign && !quoted
    })
}

/// When each piece of an answer came and how large it was; stored as differences, which stay small.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Arrivals {
    /// Microseconds since the piece before; the first since the start of the request.
    after_us: Vec<u64>,
    /// Bytes of each piece.
    bytes: Vec<u32>,
}

impl Arrivals {
    /// Arrivals from moments and sizes in order.
    #[must_use]
    pub fn from_moments(moments: &[(u64, usize)]) -> Self {
        let before = std::iter::once(0).chain(moments.iter().map(|m| m.0));
        Self {
            after_us: moments.iter().zip(before).map(|((at, _), before)| at.saturating_sub(before)).collect(),
            bytes: moments.iter().map(|(_, n)| u32::try_from(*n).unwrap_or(u32::MAX)).collect(),
        }
    }

    /// Moment in milliseconds and bytes of each piece.
    pub fn iter(&self) -> impl Iterator<Item = (f64, u32)> + '_ {
        let mut at_us = 0;
        self.after_us.iter().zip(&self.bytes).map(move |(after, bytes)| {
            at_us += after;
            (at_us as f64 / 1e3, *bytes)
        })
    }

    /// Whether no piece was noted.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn server_timing_as_the_standard_shows_it() {
        let read = server_timing("miss, db;dur=53, app;dur=47.2;desc=\"a, b;dur=9\", ;dur=1, total;DUR=\"123.4\"");
        let pairs: Vec<(&str, Option<f64>)> = read.iter().map(|s| (s.name.as_str(), s.ms)).collect();
        assert_eq!(pairs, [("miss", None), ("db", Some(53.0)), ("app", Some(47.2)), ("total", Some(123.4))]);
    }

    #[test]
    fn arrivals_survive_storage() {
        let moments = [(1_500, 10), (1_500, 20), (90_000, 1_024)];
        let arrivals = Arrivals::from_moments(&moments);
        let text = serde_json::to_string(&arrivals).unwrap();
        assert_eq!(text, r#"{"after_us":[1500,0,88500],"bytes":[10,20,1024]}"#);
        let back: Arrivals = serde_json::from_str(&text).unwrap();
        assert_eq!(back.iter().collect::<Vec<_>>(), [(1.5, 10), (1.5, 20), (90.0, 1_024)]);
    }
}
