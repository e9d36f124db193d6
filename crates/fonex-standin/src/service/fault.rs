//! The menu of faults.

use std::fmt;
use std::str::FromStr;

/// What a service can do wrong. Chosen by `fault=NAME` in the address of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Fault {
    /// The head of the answer comes only after a minute.
    SlowFirstByte,
    /// Half of the body comes, then nothing more.
    Stalled,
    /// The connection is reset instead of answering.
    Reset,
    /// The stated length is longer than the body, and the connection ends.
    Truncated,
    /// The stated length is shorter than the body.
    WrongLength,
    /// The JSON breaks off in the middle.
    MalformedJson,
    /// A page of HTML with status 200.
    WrongType,
    /// An answer that is not HTTP.
    NotHttp,
    /// Status 401.
    Unauthorized,
    /// Status 403.
    Forbidden,
    /// Status 404.
    NotFound,
    /// Status 413.
    TooLarge,
    /// Status 415.
    Unsupported,
    /// Status 429 with a `Retry-After` of a second.
    TooMany,
    /// Status 429 that says that the quota is used up.
    Quota,
    /// Status 500.
    Internal,
    /// Status 503.
    Unavailable,
    /// A body that never ends.
    Endless,
    /// An answer without words, or without samples.
    Empty,
    /// Bytes that are no UTF-8.
    InvalidUtf8,
    /// Audio whose header is broken.
    BrokenAudio,
}

impl Fault {
    /// All of them.
    pub const ALL: [Self; 21] = [
        Self::SlowFirstByte,
        Self::Stalled,
        Self::Reset,
        Self::Truncated,
        Self::WrongLength,
        Self::MalformedJson,
        Self::WrongType,
        Self::NotHttp,
        Self::Unauthorized,
        Self::Forbidden,
        Self::NotFound,
        Self::TooLarge,
        Self::Unsupported,
        Self::TooMany,
        Self::Quota,
        Self::Internal,
        Self::Unavailable,
        Self::Endless,
        Self::Empty,
        Self::InvalidUtf8,
        Self::BrokenAudio,
    ];

    /// Its name in addresses and tables.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::SlowFirstByte => "slow-first-byte",
            Self::Stalled => "stalled",
            Self::Reset => "reset",
            Self::Truncated => "truncated",
            Self::WrongLength => "wrong-length",
            Self::MalformedJson => "malformed-json",
            Self::WrongType => "wrong-type",
            Self::NotHttp => "not-http",
            Self::Unauthorized => "401",
            Self::Forbidden => "403",
            Self::NotFound => "404",
            Self::TooLarge => "413",
            Self::Unsupported => "415",
            Self::TooMany => "429",
            Self::Quota => "quota",
            Self::Internal => "500",
            Self::Unavailable => "503",
            Self::Endless => "endless",
            Self::Empty => "empty",
            Self::InvalidUtf8 => "invalid-utf8",
            Self::BrokenAudio => "broken-audio",
        }
    }

    /// The status and words of those that are only that.
    pub(super) const fn status(self) -> Option<(u16, &'static str)> {
        Some(match self {
            Self::Unauthorized => (401, "the key is unknown"),
            Self::Forbidden => (403, "this key may not do that"),
            Self::NotFound => (404, "no such thing here"),
            Self::TooLarge => (413, "too much at once"),
            Self::Unsupported => (415, "not this kind of audio"),
            Self::TooMany => (429, "slow down"),
            Self::Quota => (429, "the quota of this month is used up"),
            Self::Internal => (500, "something broke"),
            Self::Unavailable => (503, "back in a moment"),
            _ => return None,
        })
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for Fault {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        Self::ALL
            .into_iter()
            .find(|fault| fault.as_str() == name)
            .ok_or_else(|| format!("there is no fault \"{name}\""))
    }
}
