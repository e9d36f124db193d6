//! Addresses of services.

use std::borrow::Cow;
use std::fmt;

use hyper::Uri;

/// Where a connection leads.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Target {
    pub(crate) tls: bool,
    pub(crate) host: String,
    pub(crate) port: u16,
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.bracketed(), self.port)
    }
}

impl Target {
    /// The host as an address has it: of IPv6 in brackets.
    fn bracketed(&self) -> String {
        if self.host.contains(':') { format!("[{}]", self.host) } else { self.host.clone() }
    }

    /// The value of the `Host` header: without the port where it is the usual one.
    pub(crate) fn host_header(&self) -> String {
        let host = self.bracketed();
        if self.port == (if self.tls { 443 } else { 80 }) { host } else { format!("{host}:{}", self.port) }
    }
}

/// A parsed address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Url {
    pub(crate) target: Target,
    /// Path and query, beginning with a slash.
    pub(crate) path: String,
}

impl Url {
    /// Reads `http`, `https`, `ws` and `wss` addresses.
    pub(crate) fn parse(text: &str) -> Result<Self, String> {
        let wrong = |why: &str| format!("\"{text}\" is not the address of a service: {why}");
        let (scheme, rest) = text.split_once("://").ok_or_else(|| wrong("it has no http:// or https://"))?;
        let is_one_of = |known: [&str; 2]| known.iter().any(|known| scheme.eq_ignore_ascii_case(known));
        let tls = is_one_of(["https", "wss"]);
        if !tls && !is_one_of(["http", "ws"]) {
            return Err(wrong(&format!("{scheme} is not supported")));
        }
        let at = memchr::memchr3(b'/', b'?', b'#', rest.as_bytes()).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(at);
        if authority.contains('@') {
            return Err(wrong("a user name and password belong in a header, not in the address"));
        }
        let (host, port) = match authority.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((host, port)) => (host, port.strip_prefix(':')),
            None => authority.split_once(':').map_or((authority, None), |(host, port)| (host, Some(port))),
        };
        if host.is_empty() || host.contains(|c: char| c.is_whitespace() || c.is_control()) {
            return Err(wrong("it has no host"));
        }
        let port = match port {
            None => {
                if tls {
                    443
                } else {
                    80
                }
            }
            Some(port) => port.parse().map_err(|_| wrong("its port is not a number up to 65535"))?,
        };
        let path = path.split_once('#').map_or(path, |(path, _)| path);
        let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
        if path.contains(|c: char| c.is_control()) {
            return Err(wrong("it has a line break, a tab or another control character"));
        }
        Ok(Self { target: Target { tls, host: host.to_owned(), port }, path: encoded_path(&path).into_owned() })
    }

    /// The whole address as the HTTP library takes it.
    ///
    /// # Errors
    /// Why it cannot be sent.
    pub(crate) fn to_uri(&self, schemes: [&str; 2]) -> Result<Uri, String> {
        let scheme = schemes[usize::from(self.target.tls)];
        let address = format!("{scheme}://{}{}", self.target.host_header(), self.path);
        if address.len() > LONGEST_ADDRESS {
            return Err(format!(
                "the address has {} characters, and at most {LONGEST_ADDRESS} can be sent: put the text into the body",
                address.len()
            ));
        }
        Uri::try_from(address).map_err(|error| format!("the address of {} cannot be sent: {error}", self.target))
    }

    /// Adds a query part.
    pub(crate) fn with_query(mut self, key: &str, value: &str) -> Self {
        self.path.push(if self.path.contains('?') { '&' } else { '?' });
        encode_percent(key, &mut self.path);
        self.path.push('=');
        encode_percent(value, &mut self.path);
        self
    }

    /// Another address, seen from this one: whole, or a path on the same service.
    pub(crate) fn join(&self, other: &str) -> Result<Self, String> {
        if other.starts_with('/') && !other.starts_with("//") {
            return Self::parse(&format!("http://host{other}"))
                .map(|url| Self { target: self.target.clone(), path: url.path });
        }
        Self::parse(other)
    }
}

/// Characters of an address, at most: what the HTTP library takes.
const LONGEST_ADDRESS: usize = 65_534;

/// A path and query in which what may not stand there (RFC 3986, appendix A) is percent-encoded. What is encoded stays so.
fn encoded_path(path: &str) -> Cow<'_, str> {
    let stays = |c: char| c.is_ascii_graphic() && !matches!(c, '"' | '<' | '>' | '\\' | '^' | '`' | '{' | '|' | '}');
    if path.chars().all(stays) {
        return Cow::Borrowed(path);
    }
    let mut encoded = String::with_capacity(path.len() + 16);
    for letter in path.chars() {
        if stays(letter) { encoded.push(letter) } else { push_encoded(letter, &mut encoded) }
    }
    Cow::Owned(encoded)
}

/// A value to be put behind the beginning of an address: in the host as it is, in the path and the query
/// percent-encoded, so that it can
/// neither end its part nor begin another. At the very beginning a whole address may stand, and behind a host a whole path.
#[must_use]
pub(crate) fn url_part<'v>(before: &str, value: &'v str) -> Cow<'v, str> {
    let behind_scheme = before.split_once("://").map(|(_, rest)| rest);
    let in_host = behind_scheme.is_none_or(|rest| !rest.contains(['/', '?', '#']));
    let is_host =
        |text: &str| text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | ':' | '[' | ']'));
    if before.is_empty() || in_host && (value.starts_with('/') || is_host(value)) {
        return Cow::Borrowed(value);
    }
    Cow::Owned(percent_encoded(value))
}

/// Everything but letters, digits and `-._~` as `%XX` (RFC 3986).
#[must_use]
pub fn percent_encoded(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    encode_percent(text, &mut encoded);
    encoded
}

fn push_encoded(letter: char, encoded: &mut String) {
    const HEX: &[u8; 16] = b"0123456789ABCDEF";
    for byte in letter.encode_utf8(&mut [0; 4]).bytes() {
        encoded.extend(['%', HEX[usize::from(byte >> 4)].into(), HEX[usize::from(byte & 15)].into()]);
    }
}

/// The same, put behind what is there.
fn encode_percent(text: &str, encoded: &mut String) {
    let stays = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b'_' | b'~');
    let mut rest = text;
    loop {
        // What stays is of one byte each, so that the cut is between two letters.
        let (plain, behind) = rest.split_at(rest.bytes().position(|byte| !stays(byte)).unwrap_or(rest.len()));
        encoded.push_str(plain);
        let Some(letter) = behind.chars().next() else { return };
        push_encoded(letter, encoded);
        rest = &behind[letter.len_utf8()..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_taken_apart() {
        let parts =
            |text: &str| Url::parse(text).map(|u| (u.target.tls, u.target.host_header(), u.target.port, u.path));
        assert_eq!(parts("http://h:81/a?b#c").unwrap(), (false, "h:81".into(), 81, "/a?b".into()));
        assert_eq!(parts("WSS://h").unwrap(), (true, "h".into(), 443, "/".into()));
        assert_eq!(parts("https://[::1]:443?q").unwrap(), (true, "[::1]".into(), 443, "/?q".into()));
        for bad in [
            "h/a",
            "ftp://h",
            "http://",
            "http://h:x",
            "http://h:70000",
            "http://u:p@h",
            "http://h/a\nb",
            "http:///x",
        ] {
            assert!(parts(bad).is_err(), "{bad}");
        }
        assert_eq!(parts("http://h/a b<c>?d=é|%20").unwrap().3, "/a%20b%3Cc%3E?d=%C3%A9%7C%20");
        assert_eq!(Url::parse("http://[::1]:81/").unwrap().target.to_string(), "[::1]:81");
        let url = Url::parse("http://h/a").unwrap().with_query("q", "a b&ü").with_query("r", "");
        assert_eq!(url.path, "/a?q=a%20b%26%C3%BC&r=");
        assert_eq!(url.join("/jobs/1").unwrap().path, "/jobs/1");
        assert_eq!(url.join("https://i/x").unwrap().target.host, "i");
    }

    #[test]
    fn every_address_is_sent_as_it_is_or_refused() {
        let http = ["http", "https"];
        for (text, whole) in [
            ("http://h:81/say/big model<1>", "http://h:81/say/big%20model%3C1%3E"),
            ("wss://h/a{b}|c^`\"\\", "https://h/a%7Bb%7D%7Cc%5E%60%22%5C"),
            ("http://[::1]/?q", "http://[::1]/?q"),
        ] {
            assert_eq!(Url::parse(text).unwrap().to_uri(http).unwrap().to_string(), whole);
        }
        // Every character that a terminal can show stands in an address that the library takes.
        for byte in 0x20..0x7f_u8 {
            let text = format!("http://h/a{0}b?c={0}", char::from(byte));
            assert!(Url::parse(&text).unwrap().to_uri(http).is_ok(), "{text}");
        }
        let long =
            |length: usize| Url::parse("http://h/a").unwrap().with_query("q", &"x".repeat(length)).to_uri(http);
        assert!(long(65_521).is_ok());
        assert!(long(65_522).unwrap_err().contains("65535 characters"));
        assert!(Url::parse("http://h\\i/").unwrap().to_uri(http).is_err());
    }

    #[test]
    fn a_value_stays_in_its_part_of_an_address() {
        for (before, value, part) in [
            ("", "http://h/jobs/1?x=y", "http://h/jobs/1?x=y"),
            ("http://", "eu.h:81", "eu.h:81"),
            ("http://", "h/evil", "h%2Fevil"),
            ("http://eu.", "h@i", "h%40i"),
            ("http://h", "/jobs/1", "/jobs/1"),
            ("http://h/say/", "fish&chips#1", "fish%26chips%231"),
            ("http://h/say/", "a b/../c?d", "a%20b%2F..%2Fc%3Fd"),
            ("http://h/say?text=", "fish&chips#1", "fish%26chips%231"),
            ("http://h?text=", "/a", "%2Fa"),
        ] {
            assert_eq!(url_part(before, value), part, "{before}{value}");
        }
    }
}
