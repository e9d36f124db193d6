//! Connections whose phases are timed: look-up, opening, TLS; through a proxy where one is set.

mod clocked;
mod url;

use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use fonex_core::Outcome;
use fonex_formats::{Place, Problem};
use futures_util::TryFutureExt;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::crypto::ring;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

pub(crate) use clocked::{Clocked, Moments};
pub use url::percent_encoded;
pub(crate) use url::{Target, Url, url_part};

use crate::RetryAdvice;
use crate::hands::converse;

/// Why a call over the network ended without an answer.
#[derive(Debug)]
pub(crate) struct NetFailure {
    pub(crate) outcome: Outcome,
    pub(crate) detail: String,
    pub(crate) then: RetryAdvice,
}

impl NetFailure {
    /// A failure before anything was sent: a repeat is safe.
    pub(crate) fn unreachable(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Unreachable, detail: detail.into(), then: RetryAdvice::Repeat(None) }
    }

    /// A request that cannot be sent as it is: nothing was sent.
    pub(crate) fn refused(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Refused, detail: detail.into(), then: RetryAdvice::Leave }
    }

    pub(crate) fn broken(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Broken, detail: detail.into(), then: RetryAdvice::Leave }
    }

    pub(crate) fn late(detail: impl Into<String>) -> Self {
        Self { outcome: Outcome::Late, detail: detail.into(), then: RetryAdvice::Leave }
    }

    pub(crate) fn stopped() -> Self {
        Self { outcome: Outcome::Stopped, detail: "stopped before the answer came".into(), then: RetryAdvice::Leave }
    }
}

/// Has an event loop drive a conversation to its end.
pub(crate) fn drive<F>(conversation: F) -> impl Future<Output = Result<F::Output, NetFailure>>
where
    F: Future + Send,
    F::Output: Send,
{
    converse(conversation)
        .map_err(|error| NetFailure::unreachable(format!("this machine has no network for the client: {error}")))
}

/// How long the opening of a connection took, by phase.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Opening {
    pub(crate) lookup: Option<Duration>,
    pub(crate) connect: Option<Duration>,
    pub(crate) tls: Option<Duration>,
}

/// A way to the network: trusted authorities and a proxy.
#[derive(Clone)]
pub(crate) struct Net {
    tls: Arc<ClientConfig>,
    proxy: Option<Target>,
    /// A proxy is asked for a tunnel also where there is no TLS.
    tunnels: bool,
}

impl Net {
    /// `protocols` are offered in the TLS handshake, best first. A file of authorities is trusted instead of the public
    /// ones, as one that gives a file means to reach nothing else.
    pub(crate) fn new(
        ca_file: Option<&Path>,
        proxy: Option<&str>,
        protocols: &[&str],
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Self, Problem> {
        let mut roots = RootCertStore::empty();
        match ca_file {
            None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
            Some(path) => {
                let broken = |what: String| Problem::new(what, at("ca_file")).expected("certificates in PEM form");
                let found = CertificateDer::pem_file_iter(path)
                    .map_err(|error| broken(format!("{} cannot be read: {error}", path.display())))?;
                for certificate in found {
                    let certificate = certificate.map_err(|error| broken(format!("{}: {error}", path.display())))?;
                    roots.add(certificate).map_err(|error| broken(format!("{}: {error}", path.display())))?;
                }
                if roots.is_empty() {
                    return Err(broken(format!("{} holds no certificate", path.display())));
                }
            }
        }
        let provider = Arc::new(ring::default_provider());
        let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let mut tls =
            builder.expect("ring offers the default versions").with_root_certificates(roots).with_no_client_auth();
        tls.alpn_protocols = protocols.iter().map(|name| name.as_bytes().to_vec()).collect();
        let proxy = match proxy {
            None => None,
            Some(text) => match Url::parse(text) {
                Ok(url) if !url.target.tls => Some(url.target),
                Ok(_) => {
                    return Err(
                        Problem::new("a proxy is spoken to without TLS", at("proxy")).expected("http://HOST:PORT")
                    );
                }
                Err(why) => return Err(Problem::new(why, at("proxy")).expected("http://HOST:PORT")),
            },
        };
        Ok(Self { tls: Arc::new(tls), proxy, tunnels: false })
    }

    /// For what is no request that a proxy could forward.
    pub(crate) fn tunnelling(self) -> Self {
        Self { tunnels: true, ..self }
    }

    /// Whether requests to a target go to the proxy with their whole address.
    pub(crate) fn forwards(&self, target: &Target) -> bool {
        self.proxy.is_some() && !target.tls && !self.tunnels
    }

    /// Opens a connection within a time. Gives it with whether HTTP/2 was agreed on.
    pub(crate) async fn open(
        &self,
        target: &Target,
        limit: Duration,
        opening: &mut Opening,
    ) -> Result<(Clocked, bool), NetFailure> {
        let late = || NetFailure {
            then: RetryAdvice::Repeat(None),
            ..NetFailure::late(format!("no connection to {target} within {} s", limit.as_secs_f64()))
        };
        timeout(limit, self.open_unlimited(target, opening)).await.map_err(|_| late())?
    }

    async fn open_unlimited(&self, target: &Target, opening: &mut Opening) -> Result<(Clocked, bool), NetFailure> {
        let first = self.proxy.as_ref().unwrap_or(target);
        let started = Instant::now();
        let found = tokio::net::lookup_host((first.host.as_str(), first.port)).await;
        let addresses: Vec<SocketAddr> = match found {
            Ok(addresses) => addresses.collect(),
            Err(_) => return Err(NetFailure::unreachable(format!("the name {} is not known", first.host))),
        };
        opening.lookup = Some(started.elapsed());
        let started = Instant::now();
        let mut stream = connect(&addresses, first).await?;
        if self.proxy.is_some() && !self.forwards(target) {
            tunnel(&mut stream, target).await?;
        }
        opening.connect = Some(started.elapsed());
        if !target.tls {
            return Ok((Clocked::plain(stream), false));
        }
        let started = Instant::now();
        let name = ServerName::try_from(target.host.clone())
            .map_err(|_| NetFailure::unreachable(format!("{} cannot be the name of a certificate", target.host)))?;
        let secured = TlsConnector::from(Arc::clone(&self.tls)).connect(name, stream).await;
        let secured = secured.map_err(|error| NetFailure {
            then: RetryAdvice::Leave,
            ..NetFailure::unreachable(format!("no secure connection to {target}: {}", tls_reason(&error)))
        })?;
        opening.tls = Some(started.elapsed());
        let h2 = secured.get_ref().1.alpn_protocol() == Some(b"h2");
        Ok((Clocked::secured(secured), h2))
    }
}

async fn connect(addresses: &[SocketAddr], target: &Target) -> Result<TcpStream, NetFailure> {
    let mut last = None;
    for address in addresses {
        match TcpStream::connect(address).await {
            Ok(stream) => {
                // Small messages must leave at once; a refusal of the option costs only time.
                drop(stream.set_nodelay(true));
                return Ok(stream);
            }
            Err(error) => last = Some(error),
        }
    }
    let why = last.map_or_else(|| "the name has no address".to_owned(), |error| io_reason(&error));
    Err(NetFailure::unreachable(format!("no connection to {target}: {why}")))
}

/// Asks a proxy for a way to a target.
async fn tunnel(stream: &mut TcpStream, target: &Target) -> Result<(), NetFailure> {
    const LONGEST: usize = 16 << 10;
    let refused = |why: String| NetFailure::unreachable(format!("the proxy does not connect to {target}: {why}"));
    let ask = format!("CONNECT {target} HTTP/1.1\r\nHost: {target}\r\n\r\n");
    stream.write_all(ask.as_bytes()).await.map_err(|error| refused(io_reason(&error)))?;
    let mut head = Vec::new();
    while !head.ends_with(b"\r\n\r\n") {
        let byte = stream.read_u8().await.map_err(|error| refused(io_reason(&error)))?;
        head.push(byte);
        if head.len() > LONGEST {
            return Err(refused("its answer has no end".to_owned()));
        }
    }
    let head = String::from_utf8_lossy(&head);
    let line = head.lines().next().unwrap_or_default();
    let status = line.split(' ').nth(1).unwrap_or_default();
    if status.starts_with('2') { Ok(()) } else { Err(refused(line.to_owned())) }
}

/// What the operating system says, without its number.
pub(crate) fn io_reason(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::ConnectionRefused => "nothing listens there".to_owned(),
        io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe => "the connection was cut".to_owned(),
        io::ErrorKind::UnexpectedEof => "the connection was closed too early".to_owned(),
        _ => fonex_formats::io_reason(error),
    }
}

fn tls_reason(error: &io::Error) -> String {
    let text = error.to_string();
    if text.contains("UnknownIssuer") {
        return "its certificate comes from an authority that is not trusted (name its certificate in ca_file)"
            .to_owned();
    }
    if text.contains("Expired") {
        return "its certificate has expired".to_owned();
    }
    if text.contains("NotValidForName") {
        return "its certificate is for another name".to_owned();
    }
    if text.contains("InvalidContentType") || text.contains("corrupt message") {
        return "it does not use TLS on this port (http:// instead of https://?)".to_owned();
    }
    io_reason(error)
}
