//! A long-lived program and its three streams. Dropping it ends it and everything it started.

use std::collections::{BTreeMap, VecDeque};
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, SyncSender, channel, sync_channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use crate::StopFlag;
use fonex_system::{TreeUsage, failure};

use crate::process::{Running, helper};

/// A line and when it was there.
pub(super) struct Received {
    /// What is no UTF-8 in it is replaced.
    pub(super) text: String,
    pub(super) is_utf8: bool,
    pub(super) at: Instant,
}

/// Why no further line comes.
pub(super) enum Ended {
    Late,
    /// Nobody spoke for as long as was to be waited.
    Silent,
    Stopped,
    Exited(String),
    /// By a line longer than this many bytes.
    Flooded(u64),
}

impl Ended {
    pub(super) fn words(&self) -> String {
        match self {
            Self::Late => "it took too long".to_owned(),
            Self::Silent => "no word came".to_owned(),
            Self::Stopped => "stopped".to_owned(),
            Self::Exited(how) => how.clone(),
            Self::Flooded(longest) => format!("it wrote a line longer than {} MiB", longest >> 20),
        }
    }
}

enum Event {
    Line(Received),
    Flooded(u64),
    Closed,
}

pub(super) struct Child {
    running: Running,
    /// Lines for its standard input; a thread writes them, since a worker that does not read would hold up the writer.
    requests: Option<Sender<String>>,
    events: Receiver<Event>,
    stderr: Arc<Mutex<VecDeque<u8>>>,
    /// Ends when standard error was read to its end.
    stderr_open: Receiver<()>,
    closed: bool,
    /// Milliseconds from its start until it was ready, for the first trial that uses it.
    pub(super) start_up_ms: Option<f64>,
}

const STDERR_KEPT: usize = 8 << 10;

impl Child {
    /// Starts it; no line of it may be longer than `longest` bytes.
    pub(super) fn start(
        command: &[String],
        folder: &Path,
        env: &BTreeMap<String, String>,
        longest: u64,
    ) -> std::io::Result<Self> {
        let mut started = Command::new(&command[0]);
        started
            .args(&command[1..])
            .envs(env)
            .current_dir(folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        // None waits in between: lines may be long.
        let (sender, events) = sync_channel(0);
        let stderr = Arc::new(Mutex::new(VecDeque::new()));
        let (open, stderr_open) = channel::<()>();
        let (requests, lines) = channel();
        let running = Running::start(&mut started, |child| {
            if let Some(pipe) = child.stdout.take() {
                helper(move || read_lines(pipe, longest, &sender))?;
            }
            if let Some(pipe) = child.stderr.take() {
                let kept = Arc::clone(&stderr);
                helper(move || {
                    keep_last(pipe, &kept);
                    drop(open);
                })?;
            }
            if let Some(mut pipe) = child.stdin.take() {
                helper(move || write_lines(&mut pipe, &lines))?;
            }
            Ok(())
        })?;
        let requests = Some(requests);
        Ok(Self { running, requests, events, stderr, stderr_open, closed: false, start_up_ms: None })
    }

    /// Whether it still waits for work. Lines written between two trials are dropped.
    pub(super) fn is_alive(&self) -> bool {
        !self.closed && !self.events.try_iter().any(|event| !matches!(event, Event::Line(_)))
    }

    pub(super) fn send(&mut self, mut line: String) -> Result<(), Ended> {
        line.push('\n');
        let sent = self.requests.as_ref().is_some_and(|requests| requests.send(line).is_ok());
        if sent { Ok(()) } else { Err(self.exit()) }
    }

    pub(super) fn next_line(&mut self, until: Instant, stop: &StopFlag) -> Result<Received, Ended> {
        const STEP: Duration = Duration::from_millis(25);
        loop {
            // Looked at before every line: one that never stops talking must not keep the clock from being heard.
            let left = until.saturating_duration_since(Instant::now());
            if stop.is_set() {
                return Err(Ended::Stopped);
            }
            if left.is_zero() {
                return Err(Ended::Late);
            }
            match self.events.recv_timeout(left.min(STEP)) {
                Ok(Event::Line(line)) => return Ok(line),
                Ok(Event::Flooded(longest)) => return Err(Ended::Flooded(longest)),
                Ok(Event::Closed) | Err(RecvTimeoutError::Disconnected) => return Err(self.exit()),
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
    }

    /// Its output is over: ends it if it has not ended by itself, and says how it did.
    fn exit(&mut self) -> Ended {
        self.requests = None;
        if std::mem::replace(&mut self.closed, true) {
            return Ended::Exited("the worker has ended".to_owned());
        }
        let status = self.running.end_after(Duration::from_millis(300)).status;
        Ended::Exited(match failure(status) {
            Some(how) => how.replace("the program", "the worker"),
            None => "the worker ended in the middle of its work".to_owned(),
        })
    }

    /// The last of what it wrote to standard error.
    pub(super) fn said(&self) -> String {
        const PATIENCE: Duration = Duration::from_millis(500);
        if self.closed {
            // Its last words may still be in the pipe; a child of it may hold the pipe open.
            let _ = self.stderr_open.recv_timeout(PATIENCE);
        }
        let kept = self.stderr.lock().expect("no holder of this lock panics");
        String::from_utf8_lossy(&kept.iter().copied().collect::<Vec<u8>>()).into_owned()
    }

    /// What it and everything it started used so far.
    pub(super) fn usage(&self) -> Option<TreeUsage> {
        TreeUsage::of(self.running.pid())
    }
}

impl Drop for Child {
    fn drop(&mut self) {
        self.requests = None;
        if !self.closed {
            // It may leave by itself once its input is closed.
            self.running.end_after(Duration::from_millis(200));
        }
    }
}

/// Writes until there is nothing more to say or nobody listens; the worker's output tells the same then.
fn write_lines(pipe: &mut impl Write, lines: &Receiver<String>) {
    while let Ok(line) = lines.recv() {
        if pipe.write_all(line.as_bytes()).and_then(|()| pipe.flush()).is_err() {
            return;
        }
    }
}

fn read_lines(pipe: impl Read, longest: u64, sender: &SyncSender<Event>) {
    let mut reader = BufReader::new(pipe);
    loop {
        let mut line = Vec::new();
        let end = match reader.by_ref().take(longest).read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => Some(Event::Closed),
            Ok(read) if read as u64 == longest => Some(Event::Flooded(longest)),
            Ok(_) => None,
        };
        let at = Instant::now();
        let (text, is_utf8) = match String::from_utf8(line) {
            Ok(text) => (text, true),
            Err(error) => (String::from_utf8_lossy(error.as_bytes()).into_owned(), false),
        };
        let over = end.is_some();
        if !over && text.trim().is_empty() {
            continue;
        }
        if sender.send(end.unwrap_or(Event::Line(Received { text, is_utf8, at }))).is_err() || over {
            return;
        }
    }
}

fn keep_last(mut pipe: impl Read, kept: &Mutex<VecDeque<u8>>) {
    let mut buffer = [0; 4096];
    while let Ok(read @ 1..) = pipe.read(&mut buffer) {
        let mut kept = kept.lock().expect("no holder of this lock panics");
        kept.extend(&buffer[..read]);
        let beyond = kept.len().saturating_sub(STDERR_KEPT);
        kept.drain(..beyond);
    }
}
