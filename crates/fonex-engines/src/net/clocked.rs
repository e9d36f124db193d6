//! A connection that notes when bytes really left and came, below every protocol and task switch.

use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use fonex_system::Socket;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::client::TlsStream;

/// The moments of the exchange going on, shared between a connection and whoever waits for its answer.
#[derive(Debug, Clone)]
pub(crate) struct Moments(Arc<Noted>);

#[derive(Debug)]
struct Noted {
    epoch: Instant,
    last_write_us: AtomicU64,
    first_read_us: AtomicU64,
    /// How many bytes the other side's system has taken once it has all that was written. Counted where every byte is seen, which
    /// saves a call to the system for each exchange; of a secured connection its system is asked.
    when_all_is_taken: Option<AtomicU64>,
    acknowledged: Mutex<Acknowledged>,
}

/// How many bytes the other side's system has taken.
#[derive(Debug, Default)]
struct Acknowledged {
    /// The socket while it is open.
    socket: Option<Socket>,
    /// When the exchange began.
    before: Option<u64>,
    /// When the socket was closed.
    last: Option<u64>,
    /// The other side has ended the connection in order, and with it acknowledged all it had. A reset acknowledges nothing.
    in_order: bool,
}

impl Acknowledged {
    fn now(&self) -> Option<u64> {
        self.socket.map_or(self.last, Socket::acknowledged)
    }
}

impl Moments {
    /// `taken`: how many bytes were, before any of those that will be counted.
    fn new(socket: Socket, taken: Option<u64>) -> Self {
        let unset = || AtomicU64::new(u64::MAX);
        let acknowledged = Mutex::new(Acknowledged { socket: Some(socket), ..Acknowledged::default() });
        Self(Arc::new(Noted {
            epoch: Instant::now(),
            last_write_us: unset(),
            first_read_us: unset(),
            when_all_is_taken: taken.map(AtomicU64::new),
            acknowledged,
        }))
    }

    /// Whether no byte since the exchange began can have arrived at the other side: it hung up in order without acknowledging one.
    pub(crate) fn nothing_arrived(&self) -> bool {
        let noted = self.0.acknowledged.lock().expect("no holder of this lock panics");
        noted.in_order && noted.now().zip(noted.before).is_some_and(|(now, before)| now <= before)
    }

    /// Notes the end of a connection: that of what can be read, or what Linux calls a broken pipe, which is a reset after that end.
    fn ended(&self, end: io::Result<usize>) {
        let in_order = match end {
            Ok(read) => read == 0,
            Err(error) => matches!(error.kind(), io::ErrorKind::BrokenPipe | io::ErrorKind::UnexpectedEof),
        };
        if in_order {
            self.0.acknowledged.lock().expect("no holder of this lock panics").in_order = true;
        }
    }

    /// Forgets what was noted: a new exchange begins.
    pub(crate) fn restart(&self) {
        self.0.last_write_us.store(u64::MAX, Ordering::Relaxed);
        self.0.first_read_us.store(u64::MAX, Ordering::Relaxed);
        let mut noted = self.0.acknowledged.lock().expect("no holder of this lock panics");
        noted.before = match &self.0.when_all_is_taken {
            Some(all) => Some(all.load(Ordering::Relaxed)),
            None => noted.now(),
        };
    }

    /// Whether the connection is known to stand with nothing to be read from it.
    pub(crate) fn is_quiet(&self) -> bool {
        let noted = self.0.acknowledged.lock().expect("no holder of this lock panics");
        noted.socket.is_some_and(Socket::is_quiet)
    }

    /// When bytes were last handed to the operating system before the answer began.
    pub(crate) fn sent(&self) -> Option<Instant> {
        self.instant(&self.0.last_write_us)
    }

    /// When the first bytes of the answer were there.
    pub(crate) fn first_read(&self) -> Option<Instant> {
        self.instant(&self.0.first_read_us)
    }

    fn instant(&self, noted: &AtomicU64) -> Option<Instant> {
        let us = noted.load(Ordering::Relaxed);
        (us != u64::MAX).then(|| self.0.epoch + Duration::from_micros(us))
    }

    fn now_us(&self) -> u64 {
        self.0.epoch.elapsed().as_micros() as u64
    }

    fn wrote(&self, bytes: usize, begun_us: u64) {
        if let Some(all) = &self.0.when_all_is_taken {
            all.fetch_add(bytes as u64, Ordering::Relaxed);
        }
        if self.0.first_read_us.load(Ordering::Relaxed) == u64::MAX {
            self.0.last_write_us.store(begun_us, Ordering::Relaxed);
        }
    }

    fn read(&self) {
        if self.0.first_read_us.load(Ordering::Relaxed) == u64::MAX {
            self.0.first_read_us.store(self.now_us(), Ordering::Relaxed);
        }
    }
}

enum Inner {
    Plain(TcpStream),
    Secured(Box<TlsStream<TcpStream>>),
}

/// A connection, plain or secured.
pub(crate) struct Clocked {
    inner: Inner,
    moments: Moments,
}

impl Clocked {
    pub(super) fn plain(stream: TcpStream) -> Self {
        let socket = Socket::of(&stream);
        let moments = Moments::new(socket, socket.acknowledged());
        Self { inner: Inner::Plain(stream), moments }
    }

    pub(super) fn secured(stream: TlsStream<TcpStream>) -> Self {
        let moments = Moments::new(Socket::of(stream.get_ref().0), None);
        Self { inner: Inner::Secured(Box::new(stream)), moments }
    }

    /// Its moments; they stay readable after the connection was handed on.
    pub(crate) fn moments(&self) -> Moments {
        self.moments.clone()
    }
}

impl Drop for Clocked {
    fn drop(&mut self) {
        let mut noted = self.moments.0.acknowledged.lock().expect("no holder of this lock panics");
        noted.last = noted.now();
        noted.socket = None;
    }
}

impl AsyncRead for Clocked {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        let before = buf.filled().len();
        let polled = match &mut this.inner {
            Inner::Plain(stream) => Pin::new(stream).poll_read(cx, buf),
            Inner::Secured(stream) => Pin::new(stream.as_mut()).poll_read(cx, buf),
        };
        let room = buf.remaining() > 0 || buf.filled().len() > before;
        match &polled {
            Poll::Ready(Ok(())) if buf.filled().len() > before => this.moments.read(),
            Poll::Ready(Ok(())) if room => this.moments.ended(Ok(0)),
            Poll::Ready(Err(error)) => this.moments.ended(Err(error.kind().into())),
            _ => {}
        }
        polled
    }
}

impl AsyncWrite for Clocked {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        let this = self.get_mut();
        // The other side may have read it before this thread is back from the call.
        let begun_us = this.moments.now_us();
        let polled = match &mut this.inner {
            Inner::Plain(stream) => Pin::new(stream).poll_write(cx, buf),
            Inner::Secured(stream) => Pin::new(stream.as_mut()).poll_write(cx, buf),
        };
        match &polled {
            Poll::Ready(Ok(bytes @ 1..)) => this.moments.wrote(*bytes, begun_us),
            Poll::Ready(Err(error)) => this.moments.ended(Err(error.kind().into())),
            _ => {}
        }
        polled
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match &mut self.get_mut().inner {
            Inner::Plain(stream) => Pin::new(stream).poll_flush(cx),
            Inner::Secured(stream) => Pin::new(stream.as_mut()).poll_flush(cx),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match &mut self.get_mut().inner {
            Inner::Plain(stream) => Pin::new(stream).poll_shutdown(cx),
            Inner::Secured(stream) => Pin::new(stream.as_mut()).poll_shutdown(cx),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::net::TcpListener;

    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    /// The second request of a connection: swallowed, or sent to one that has hung up meanwhile.
    #[cfg(target_os = "linux")]
    #[test]
    fn it_is_known_whether_a_request_arrived_where_the_other_side_hung_up() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_io().build().unwrap();
        for arrives in [true, false] {
            let nothing_arrived = runtime.block_on(async {
                let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
                let mut ours = Clocked::plain(TcpStream::connect(listener.local_addr().unwrap()).await.unwrap());
                let mut theirs = listener.accept().unwrap().0;
                let moments = ours.moments();
                moments.restart();
                ours.write_all(b"first").await.unwrap();
                theirs.read_exact(&mut [0; 5]).unwrap();
                theirs.write_all(b"answer").unwrap();
                ours.read_exact(&mut [0; 6]).await.unwrap();
                assert!(moments.sent() <= moments.first_read() && !moments.nothing_arrived());
                moments.restart();
                assert_eq!((moments.sent(), moments.first_read()), (None, None));
                if arrives {
                    ours.write_all(b"second").await.unwrap();
                    theirs.read_exact(&mut [0; 6]).unwrap();
                    drop(theirs);
                } else {
                    drop(theirs);
                    ours.write_all(b"second").await.unwrap();
                }
                // The end in order, or what follows it.
                assert!(matches!(ours.read(&mut [0; 1]).await, Ok(0) | Err(_)));
                moments.nothing_arrived()
            });
            assert_eq!(nothing_arrived, !arrives);
        }
    }
}
