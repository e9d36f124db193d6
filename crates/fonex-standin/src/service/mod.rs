//! The stand-ins as a service on loopback: over HTTP and WebSocket, seeded, with exactly known delays and a menu of
//! faults. The address of each request chooses its behaviour, so that tests can ask for any of it.

mod asked;
mod ear;
mod fault;
mod giving;
mod jobs;
mod live;
mod making;
mod routes;
mod wire;

use std::collections::BTreeMap;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::Clip;
use fonex_core::audio::Audio;
use tokio::net::TcpStream;
use tokio::sync::Notify;

pub use fault::Fault;

use crate::Behaviours;
use ear::Ear;
use jobs::Jobs;
use wire::Connection;

/// What a service knows and how it behaves.
#[derive(Debug, Clone, Default)]
pub struct ServiceConfig {
    /// Stand-ins by name, as in a bench file.
    pub engines: BTreeMap<String, Behaviours>,
    /// Labelled clips with their sound. What is heard is looked up in it by its samples.
    pub clips: Vec<(Clip, Audio)>,
    /// Seed of everything random.
    pub seed: u64,
    /// Keys that are accepted as `Authorization: Bearer KEY`; without any, no key is asked for.
    pub keys: Vec<String>,
    /// Requests after which the quota is used up.
    pub quota: Option<u64>,
    /// Share of requests that meet a fault, chosen by the seed among those of HTTP.
    pub fault_share: f64,
    /// How long the service waits before it serves a connection.
    pub slow_accept: Duration,
}

/// What the connections of a service share.
struct Shared {
    config: ServiceConfig,
    ear: Ear,
    jobs: Mutex<Jobs>,
    served: AtomicU64,
    stop: Notify,
}

/// A service that runs until it is dropped.
pub struct Service {
    address: SocketAddr,
    shared: Arc<Shared>,
    thread: Option<thread::JoinHandle<()>>,
}

impl Service {
    /// Starts a service on a loopback port; 0 takes a free one.
    ///
    /// # Errors
    /// When the port is taken.
    pub fn start(config: ServiceConfig, port: u16) -> io::Result<Self> {
        let listener = TcpListener::bind(("127.0.0.1", port))?;
        listener.set_nonblocking(true)?;
        let address = listener.local_addr()?;
        let ear = Ear::new(&config.clips);
        let shared = Shared { config, ear, jobs: Mutex::default(), served: AtomicU64::new(0), stop: Notify::new() };
        let shared = Arc::new(shared);
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .thread_name("fonex-standin")
            .enable_all()
            .build()?;
        let own = Arc::clone(&shared);
        let thread = thread::Builder::new().name("fonex-standin".into()).spawn(move || {
            runtime.block_on(accept(listener, &own));
            // Conversations under way end with the service.
            runtime.shutdown_timeout(Duration::from_millis(100));
        })?;
        Ok(Self { address, shared, thread: Some(thread) })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Requests served so far, faults included.
    #[must_use]
    pub fn served(&self) -> u64 {
        self.shared.served.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// Jobs that were not deleted.
    ///
    /// # Panics
    /// Never: no holder of the lock panics.
    #[must_use]
    pub fn jobs_left(&self) -> usize {
        self.shared.jobs.lock().expect("no holder of this lock panics").len()
    }

    /// Serves until the process ends.
    pub fn wait(mut self) {
        if let Some(thread) = self.thread.take() {
            drop(thread.join());
        }
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.shared.stop.notify_one();
        if let Some(thread) = self.thread.take() {
            drop(thread.join());
        }
    }
}

async fn accept(listener: TcpListener, shared: &Arc<Shared>) {
    let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = shared.stop.notified() => return,
        };
        // A connection that is gone before it is accepted is no business of ours.
        if let Ok((stream, _)) = accepted {
            tokio::spawn(serve(stream, Arc::clone(shared)));
        }
    }
}

async fn serve(stream: TcpStream, shared: Arc<Shared>) {
    drop(stream.set_nodelay(true));
    tokio::time::sleep(shared.config.slow_accept).await;
    let mut connection = Connection::new(stream);
    // A client that breaks off ends its own connection only.
    while let Ok(Some(request)) = connection.read().await {
        let read_at = Instant::now();
        shared.served.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        if request.wants_socket() {
            drop(live::converse(connection, request, &shared).await);
            return;
        }
        match routes::answer(&mut connection, &request, &shared, read_at).await {
            Ok(true) => {}
            Ok(false) | Err(_) => return,
        }
    }
}
