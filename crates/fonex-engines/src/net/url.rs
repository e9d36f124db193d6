//! Addresses of services.

use std::fmt;

/// Where a connection leads.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Target {
    pub(crate) tls: bool,
    pub(crate) host: String,
    pub(crate) port: u16,
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.host, self.port)
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
        let wrong = |why: &str| format!("\"{text}\" is no address of a service: {why}");
        let (scheme, rest) = text.split_once("://").ok_or_else(|| wrong("it has no http:// or https://"))?;
        let tls = match scheme.to_ascii_lowercase().as_str() {
            "http" | "ws" => false,
            "https" | "wss" => true,
            _ => return Err(wrong(&format!("{scheme} is not spoken here"))),
        };
        let at = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(at);
        if authority.contains('@') {
            return Err(wrong("a name and password before the host belong into a header"));
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
            Some(port) => port.parse().map_err(|_| wrong("its port is no number up to 65535"))?,
        };
        let path = path.split('#').next().unwrap_or_default();
        let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
        if path.contains(|c: char| c.is_whitespace() || c.is_control() || !c.is_ascii()) {
            return Err(wrong("spaces and letters beyond ASCII must be percent-encoded"));
        }
        Ok(Self { target: Target { tls, host: host.to_owned(), port }, path })
    }

    /// Adds a query part.
    pub(crate) fn with_query(mut self, key: &str, value: &str) -> Self {
        self.path.push(if self.path.contains('?') { '&' } else { '?' });
        self.path += &percent_encoded(key);
        self.path.push('=');
        self.path += &percent_encoded(value);
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

    /// The value of the `Host` header: without the port where it is the usual one.
    pub(crate) fn host_header(&self) -> String {
        let Target { tls, host, port } = &self.target;
        let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
        if *port == (if *tls { 443 } else { 80 }) { host } else { format!("{host}:{port}") }
    }
}

/// Everything but letters, digits and `-._~` as `%XX` (RFC 3986).
#[must_use]
pub(crate) fn percent_encoded(text: &str) -> String {
    const HEX: [char; 16] = ['0', '1', '2', '3', '4', '5', '6', '7', '8', '9', 'A', 'B', 'C', 'D', 'E', 'F'];
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => encoded.push(char::from(byte)),
            other => encoded.extend(['%', HEX[usize::from(other >> 4)], HEX[usize::from(other & 15)]]),
        }
    }
    encoded
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_taken_apart() {
        let parts = |text: &str| Url::parse(text).map(|u| (u.target.tls, u.host_header(), u.target.port, u.path));
        assert_eq!(parts("http://h:81/a?b#c").unwrap(), (false, "h:81".into(), 81, "/a?b".into()));
        assert_eq!(parts("WSS://h").unwrap(), (true, "h".into(), 443, "/".into()));
        assert_eq!(parts("https://[::1]:443?q").unwrap(), (true, "[::1]".into(), 443, "/?q".into()));
        for bad in
            ["h/a", "ftp://h", "http://", "http://h:x", "http://h:70000", "http://u:p@h", "http://h/a b", "http:///x"]
        {
            assert!(parts(bad).is_err(), "{bad}");
        }
        let url = Url::parse("http://h/a").unwrap().with_query("q", "a b&ü").with_query("r", "");
        assert_eq!(url.path, "/a?q=a%20b%26%C3%BC&r=");
        assert_eq!(url.join("/jobs/1").unwrap().path, "/jobs/1");
        assert_eq!(url.join("https://i/x").unwrap().target.host, "i");
    }
}
