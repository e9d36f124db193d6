//! Encrypted connections to a team's database.

use std::future::Future;
use std::io;
use std::path::Path;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use postgres::tls::{ChannelBinding, MakeTlsConnect, TlsConnect, TlsStream};
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio_rustls::rustls::crypto::ring;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};
use tokio_rustls::{TlsConnector, client};

/// Makes connections whose server has to show a certificate for its name.
#[derive(Clone)]
pub(super) struct Tls(Arc<ClientConfig>);

impl Tls {
    /// Trusts the certificates of a file, or the public authorities.
    pub(super) fn new(authorities: Option<&Path>) -> Result<Self, String> {
        let mut roots = RootCertStore::empty();
        match authorities {
            None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
            Some(path) => {
                let broken = |why: String| format!("the certificates in {} cannot be used: {why}", path.display());
                for certificate in CertificateDer::pem_file_iter(path).map_err(|error| broken(error.to_string()))? {
                    let certificate = certificate.map_err(|error| broken(error.to_string()))?;
                    roots.add(certificate).map_err(|error| broken(error.to_string()))?;
                }
                if roots.is_empty() {
                    return Err(broken("there is none".to_owned()));
                }
            }
        }
        let config = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?
            .with_root_certificates(roots)
            .with_no_client_auth();
        Ok(Self(Arc::new(config)))
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin + Send + 'static> MakeTlsConnect<S> for Tls {
    type Stream = Stream<S>;
    type TlsConnect = Opening;
    type Error = io::Error;

    fn make_tls_connect(&mut self, host: &str) -> io::Result<Opening> {
        let name = ServerName::try_from(host.to_owned()).map_err(io::Error::other)?;
        Ok(Opening { connector: TlsConnector::from(Arc::clone(&self.0)), name })
    }
}

pub(super) struct Opening {
    connector: TlsConnector,
    name: ServerName<'static>,
}

impl<S: AsyncRead + AsyncWrite + Unpin + Send + 'static> TlsConnect<S> for Opening {
    type Stream = Stream<S>;
    type Error = io::Error;
    type Future = Pin<Box<dyn Future<Output = io::Result<Stream<S>>> + Send>>;

    fn connect(self, stream: S) -> Self::Future {
        Box::pin(async move { Ok(Stream(Box::new(self.connector.connect(self.name, stream).await?))) })
    }
}

pub(super) struct Stream<S>(Box<client::TlsStream<S>>);

impl<S: AsyncRead + AsyncWrite + Unpin> TlsStream for Stream<S> {
    fn channel_binding(&self) -> ChannelBinding {
        ChannelBinding::none()
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncRead for Stream<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_read(context, buffer)
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Stream<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(context)
    }
}
