//! Limits of engines that hold for all machines together: turns and places are entries of the server's key-value store.
//!
//! Time is the server's: an entry says when it was written. What the clocks of the machines say does not matter.

use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use async_nats::jetstream::kv;
use fonex_engines::{SharedPace, StopFlag};

use super::key_of;
use super::link::Link;

/// After this time a place whose holder vanished is free.
pub(super) const HELD: Duration = Duration::from_secs(60);
/// Between two attempts at a place.
const PAUSE: Duration = Duration::from_millis(20);

/// The pace of one worker among others.
pub(super) struct Together {
    link: Link,
    turns: kv::Store,
    /// Who holds what.
    worker: String,
    /// The server's time in nanoseconds at a moment of ours.
    clock: (Instant, i128),
    held: Arc<Mutex<Vec<String>>>,
}

impl Together {
    pub(super) fn new(link: &Link, turns: kv::Store, worker: &str) -> Result<Self, fonex_formats::Problem> {
        let key = format!("clock.{worker}");
        let before = Instant::now();
        link.ask("write an entry", turns.put(&key, worker.to_owned().into()))?;
        let middle = before + before.elapsed() / 2;
        let told = link.entry(&turns, &key)?.map_or(0, |entry| entry.created.unix_timestamp_nanos());
        Ok(Self { link: link.clone(), turns, worker: worker.to_owned(), clock: (middle, told), held: Arc::default() })
    }

    fn server_now(&self) -> i128 {
        self.clock.1 + self.clock.0.elapsed().as_nanos() as i128
    }

    /// Shows that what is held is held still; to be called more often than [`HELD`].
    pub(super) fn renew(&self) {
        let held = self.held.lock().unwrap_or_else(PoisonError::into_inner).clone();
        for key in held {
            drop(self.link.ask("renew", self.turns.put(&key, self.worker.clone().into())));
        }
    }

    /// The moment of the next turn at an engine, in the server's time; none where the server does not answer.
    fn turn(&self, engine: &str, per_second: f64, stop: &StopFlag) -> Option<i128> {
        let (key, step) = (format!("rate.{}", key_of(engine)), (1e9 / per_second) as i128);
        while !stop.is_set() {
            let entry = self.link.entry(&self.turns, &key).ok()?;
            let next = entry.as_ref().and_then(|entry| std::str::from_utf8(&entry.value).ok()?.parse::<i128>().ok());
            let turn = next.unwrap_or(0).max(self.server_now());
            let told: bytes::Bytes = (turn + step).to_string().into();
            let revision = entry.map_or(0, |entry| entry.revision);
            // Who was faster has that turn, and the next one is sought.
            if self.link.ask("take a turn", self.turns.update(&key, told, revision)).is_ok() {
                return Some(turn);
            }
            thread::sleep(Duration::from_millis(1));
        }
        None
    }

    /// A place among those that an engine has at once.
    fn place(&self, engine: &str, most: usize, stop: &StopFlag) -> Option<Place> {
        let begin = spread_out(&self.worker) as usize % most;
        while !stop.is_set() {
            for at in (0..most).map(|at| (begin + at) % most) {
                let key = format!("place.{}.{at}", key_of(engine));
                let free = self.link.ask("take a place", self.turns.create(&key, self.worker.clone().into())).is_ok();
                if free {
                    self.held.lock().unwrap_or_else(PoisonError::into_inner).push(key.clone());
                    return Some(Place {
                        key,
                        link: self.link.clone(),
                        turns: self.turns.clone(),
                        held: Arc::clone(&self.held),
                    });
                }
            }
            thread::sleep(PAUSE);
        }
        None
    }
}

/// Where a worker begins to look, so that not all begin at the same place.
fn spread_out(text: &str) -> u32 {
    text.bytes().fold(17_u32, |hash, byte| hash.wrapping_mul(31).wrapping_add(byte.into()))
}

struct Place {
    key: String,
    link: Link,
    turns: kv::Store,
    held: Arc<Mutex<Vec<String>>>,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.held.lock().unwrap_or_else(PoisonError::into_inner).retain(|key| *key != self.key);
        drop(self.link.ask("leave a place", self.turns.delete(&self.key)));
    }
}

impl SharedPace for Together {
    fn enter(
        &self,
        engine: &str,
        per_second: Option<f64>,
        at_once: Option<usize>,
        stop: &StopFlag,
    ) -> Option<Box<dyn Send>> {
        let place = match at_once {
            Some(most) => Some(self.place(engine, most.max(1), stop)?),
            None => None,
        };
        if let Some(per_second) = per_second {
            let turn = self.turn(engine, per_second, stop)?;
            let wait = turn.saturating_sub(self.server_now()).max(0);
            if !stop.pause(Duration::from_nanos(u64::try_from(wait).unwrap_or(u64::MAX))) {
                return None;
            }
        }
        Some(Box::new(place))
    }
}
