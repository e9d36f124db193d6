//! The connection to a NATS server: what is asked of JetStream, from threads that wait for the answer.

use std::fmt;
use std::future::Future;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use async_nats::jetstream::consumer::{AckPolicy, PullConsumer, pull};
use async_nats::jetstream::message::PublishMessage;
use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::stream::{self, RetentionPolicy};
use async_nats::jetstream::{self, AckKind, Message, kv, object_store};
use fonex_engines::StopFlag;
use fonex_formats::{Problem, checksum};
use futures_util::StreamExt;
use tokio::io::AsyncReadExt;
use tokio::runtime::Runtime;

use super::access::SpreadAddress;
use super::problem;
use crate::execute::{WhenOver, no_thread};

/// Time for one answer of the server.
const ANSWER: Duration = Duration::from_secs(20);
/// Timeout of a list of entries, and its attempts.
const LIST: Duration = Duration::from_secs(10);
const LISTINGS: usize = 4;
/// The oldest server that has been tried.
const OLDEST: (Option<u32>, Option<u32>) = (Some(2), Some(9));
/// How long a server that is away is waited for, and between two attempts.
const PATIENCE: Duration = Duration::from_secs(300);
const PAUSE: Duration = Duration::from_secs(1);
/// Attempts that may fail although the server answers: after a restart it may answer before all it holds is ready again.
const MOST_ALTHOUGH_THERE: u32 = 10;
/// Messages with the same id within this time are one.
const SAME: Duration = Duration::from_secs(600);

/// An open connection. It is opened again by itself where it breaks.
#[derive(Clone)]
pub(super) struct Link {
    runtime: Arc<Runtime>,
    client: async_nats::Client,
    jetstream: jetstream::Context,
    address: SpreadAddress,
}

impl Link {
    pub(super) fn open(address: &SpreadAddress, name: &str) -> Result<Self, Problem> {
        let broken = |error: String| problem(format!("{address} cannot be used: {error}"), address);
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .thread_name("fonex-spread")
            .enable_all()
            .build()
            .map_err(|error| broken(error.to_string()))?;
        let options = address.options()?.name(name).connection_timeout(ANSWER).request_timeout(Some(ANSWER));
        let connected = runtime.block_on(async { options.connect(address.server()).await });
        let client = connected.map_err(|error| broken(error.to_string()))?;
        let jetstream = {
            // It starts a task of its own.
            let _inside = runtime.enter();
            jetstream::new(client.clone())
        };
        let version = client.server_info().version;
        let mut numbers = version.split('.').map(|number| number.parse::<u32>().unwrap_or(0));
        if (numbers.next(), numbers.next()) < OLDEST {
            return Err(broken(format!("it is nats-server {version}, and 2.9 or newer is needed")));
        }
        Ok(Self { runtime: Arc::new(runtime), client, jetstream, address: address.clone() })
    }

    /// Waits for an answer of the server.
    pub(super) fn ask<T, E: fmt::Display>(
        &self,
        what: &str,
        answer: impl Future<Output = Result<T, E>>,
    ) -> Result<T, Problem> {
        self.runtime.block_on(answer).map_err(|error| problem(format!("cannot {what}: {error}"), &self.address))
    }

    /// Asks again while the server is away, as when it restarts, until it has been away too long or `stop` is set. What fails
    /// although the server answers has another reason, and is not asked for much longer.
    pub(super) fn patiently<T>(
        &self,
        stop: &StopFlag,
        mut ask: impl FnMut() -> Result<T, Problem>,
    ) -> Result<T, Problem> {
        let (begun, mut although_there) = (Instant::now(), 0);
        loop {
            let error = match ask() {
                Ok(answer) => return Ok(answer),
                Err(error) => error,
            };
            although_there += u32::from(self.is_there());
            if although_there >= MOST_ALTHOUGH_THERE || begun.elapsed() >= PATIENCE || !stop.pause(PAUSE) {
                return Err(error);
            }
        }
    }

    /// Whether JetStream answers at this moment.
    fn is_there(&self) -> bool {
        let asked = self.client.request("$JS.API.INFO", Vec::new().into());
        self.runtime.block_on(async { tokio::time::timeout(PAUSE, asked).await }).is_ok_and(|answer| answer.is_ok())
    }

    /// Shows that somebody is at something, by an entry that is written again and again, and goes when it ends.
    pub(super) fn while_telling<T>(
        &self,
        bucket: &kv::Store,
        key: &str,
        every: Duration,
        work: impl FnOnce() -> T,
    ) -> Result<T, Problem> {
        let over = Arc::new(AtomicBool::new(false));
        let tell = || drop(self.runtime.block_on(bucket.put(key, "at it".into())));
        tell();
        let done = thread::scope(|scope| {
            let telling = thread::Builder::new().name("fonex-shown".to_owned()).spawn_scoped(scope, || {
                while !over.load(Ordering::SeqCst) {
                    thread::park_timeout(every);
                    if !over.load(Ordering::SeqCst) {
                        tell();
                    }
                }
            });
            let telling = telling.map_err(|error| no_thread(&error))?;
            let _over = WhenOver::new(|| {
                over.store(true, Ordering::SeqCst);
                telling.thread().unpark();
            });
            Ok(work())
        });
        drop(self.runtime.block_on(bucket.purge(key)));
        done
    }

    /// A bucket of entries, of which each has one value.
    pub(super) fn bucket(&self, name: &str, lasts: Duration) -> Result<kv::Store, Problem> {
        // A bucket is a stream of this form (NATS architecture decision 8); asked for as such, since older servers leave out of
        // what they say of an account a field that the library reads.
        let config = stream::Config {
            name: format!("KV_{name}"),
            subjects: vec![format!("$KV.{name}.>")],
            max_messages_per_subject: 1,
            max_age: lasts,
            discard: stream::DiscardPolicy::New,
            duplicate_window: SAME.min(lasts),
            allow_rollup: true,
            deny_delete: true,
            allow_direct: true,
            ..stream::Config::default()
        };
        self.ask(&format!("open the bucket {name}"), self.jetstream.get_or_create_stream(config))?;
        self.ask(&format!("open the bucket {name}"), self.jetstream.get_key_value(name))
    }

    pub(super) fn entry(&self, bucket: &kv::Store, key: &str) -> Result<Option<kv::Entry>, Problem> {
        let entry = self.ask("read an entry", bucket.entry(key))?;
        Ok(entry.filter(|entry| entry.operation == kv::Operation::Put))
    }

    pub(super) fn keys(&self, bucket: &kv::Store) -> Result<Vec<String>, Problem> {
        let listed = async || {
            let mut keys = bucket.keys().await.map_err(|error| error.to_string())?;
            let mut all = Vec::new();
            while let Some(key) = keys.next().await {
                all.push(key.map_err(|error| error.to_string())?);
            }
            all.sort();
            Ok::<_, String>(all)
        };
        self.ask("list entries", async {
            // The stream of keys may never end if entries change meanwhile: ask again.
            for _ in 0..LISTINGS {
                if let Ok(all) = tokio::time::timeout(LIST, listed()).await {
                    return all;
                }
            }
            Err("the list of entries did not complete".to_owned())
        })
    }

    pub(super) fn objects(&self, name: &str) -> Result<ObjectStore, Problem> {
        let config = object_store::Config { bucket: name.to_owned(), ..object_store::Config::default() };
        self.ask(&format!("open the object store {name}"), async {
            match self.jetstream.get_object_store(name).await {
                Ok(store) => Ok(store),
                Err(_) => self.jetstream.create_object_store(config).await,
            }
        })
    }

    /// Puts bytes under a name that begins with their checksum, unless they are there already.
    pub(super) fn put_object(&self, objects: &ObjectStore, name: &str, bytes: &[u8]) -> Result<(), Problem> {
        // Its description is put there after its last part, and its name begins with its checksum.
        let known = self.runtime.block_on(objects.info(name));
        if known.is_ok_and(|known| !known.deleted && known.size == bytes.len()) {
            return Ok(());
        }
        let mut reader = bytes;
        self.ask(&format!("put {} bytes into the object store", bytes.len()), objects.put(name, &mut reader))
            .map(drop)
    }

    /// The bytes under a name that begins with their checksum; none where there are none, or not these.
    pub(super) fn get_object(&self, objects: &ObjectStore, name: &str) -> Result<Option<Vec<u8>>, Problem> {
        let read = self.runtime.block_on(async {
            let mut object = objects.get(name).await.ok()?;
            let mut bytes = Vec::with_capacity(object.info().size);
            object.read_to_end(&mut bytes).await.ok()?;
            Some(bytes)
        });
        Ok(read.filter(|bytes| name.starts_with(&checksum::of_bytes(bytes))))
    }

    /// A queue from which each message goes when it is done.
    pub(super) fn queue(&self, name: &str) -> Result<stream::Stream, Problem> {
        let config = stream::Config {
            name: name.to_owned(),
            subjects: vec![name.to_owned()],
            retention: RetentionPolicy::WorkQueue,
            duplicate_window: SAME,
            ..stream::Config::default()
        };
        self.ask(&format!("open the queue {name}"), self.jetstream.get_or_create_stream(config.clone())).and_then(
            |made| {
                let found = &made.cached_info().config;
                if found.retention == config.retention && found.subjects == config.subjects {
                    return Ok(made);
                }
                Err(problem(
                    format!("the stream {name} is there with other settings; delete it first"),
                    &self.address,
                ))
            },
        )
    }

    pub(super) fn takes(&self, queue: &stream::Stream, lease: Duration) -> Result<PullConsumer, Problem> {
        let config = pull::Config {
            durable_name: Some("all".to_owned()),
            ack_policy: AckPolicy::Explicit,
            ack_wait: lease,
            max_ack_pending: 100_000,
            ..pull::Config::default()
        };
        self.ask("take from the queue", queue.get_or_create_consumer("all", config))
    }

    /// Puts messages on a queue, each with the id that tells it from others; all are there when this returns.
    pub(super) fn publish(&self, queue: &str, messages: Vec<(String, Vec<u8>)>) -> Result<(), Problem> {
        self.ask("put onto the queue", async {
            let mut answers = Vec::with_capacity(messages.len());
            for (id, body) in messages {
                let message = PublishMessage::build().message_id(id).payload(body.into());
                answers
                    .push(self.jetstream.send_publish(queue.to_owned(), message).await.map_err(|e| e.to_string())?);
            }
            for answer in answers {
                answer.await.map_err(|error| error.to_string())?;
            }
            Ok::<_, String>(())
        })
    }

    /// Up to `most` messages; none where there are none for a while.
    pub(super) fn fetch(
        &self,
        consumer: &PullConsumer,
        most: usize,
        wait: Duration,
    ) -> Result<Vec<Message>, Problem> {
        self.ask("take from the queue", async {
            let mut coming =
                consumer.fetch().max_messages(most).expires(wait).messages().await.map_err(|e| e.to_string())?;
            let mut messages = Vec::new();
            while let Some(message) = coming.next().await {
                messages.push(message.map_err(|error| error.to_string())?);
            }
            Ok::<_, String>(messages)
        })
    }

    /// As [`Self::fetch`], but returns with the first messages there are.
    pub(super) fn fetch_soon(
        &self,
        consumer: &PullConsumer,
        most: usize,
        wait: Duration,
    ) -> Result<Vec<Message>, Problem> {
        let first = self.fetch(consumer, 1, wait)?;
        if first.is_empty() || most == 1 {
            return Ok(first);
        }
        let more = self.ask("take from the queue", async {
            let mut coming = consumer.fetch().max_messages(most - 1).messages().await.map_err(|e| e.to_string())?;
            let mut messages = Vec::new();
            while let Some(Ok(message)) = coming.next().await {
                messages.push(message);
            }
            Ok::<_, String>(messages)
        })?;
        Ok(first.into_iter().chain(more).collect())
    }

    /// Lets a message go for good; the server has heard of it when this returns.
    pub(super) fn done(&self, message: &Message) -> Result<(), Problem> {
        self.ask("let a message go", message.double_ack())
    }

    pub(super) fn tell(&self, message: &Message, kind: AckKind) {
        // What is not heard of comes again after its lease.
        drop(self.runtime.block_on(message.ack_with(kind)));
    }

    /// Bytes that a message can hold.
    pub(super) fn room(&self) -> usize {
        // Headers need a little of it.
        self.client.server_info().max_payload.saturating_sub(4096).max(1024)
    }

    pub(super) fn delete_queue(&self, name: &str) {
        drop(self.runtime.block_on(self.jetstream.delete_stream(name)));
    }

    pub(super) fn messages_in(&self, name: &str) -> Option<u64> {
        self.runtime.block_on(async {
            let mut stream = self.jetstream.get_stream(name).await.ok()?;
            Some(stream.info().await.ok()?.state.messages)
        })
    }

    pub(super) fn delete_object(&self, objects: &ObjectStore, name: &str) {
        drop(self.runtime.block_on(objects.delete(name)));
    }
}
