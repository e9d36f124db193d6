//! Running a program that may do anything: hang, flood, crash, or leave children behind.
//!
//! The program gets a process group of its own, which is ended with it. What it writes is kept up to a limit.

use std::collections::BTreeMap;
use std::io::{self, ErrorKind, Read, Write};
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use fonex_system::{Reaped, end, forget, reap, start, wait_until_exited};

use crate::StopFlag;

/// What to run and how far to let it go.
#[derive(Debug, Clone)]
pub struct Job<'j> {
    /// The program and its arguments; never passed through a shell.
    pub argv: &'j [String],
    /// Working folder.
    pub folder: &'j Path,
    /// Variables set in its environment.
    pub env: &'j BTreeMap<String, String>,
    /// Bytes for its standard input; without them it reads an empty one.
    pub stdin: Option<Vec<u8>>,
    /// Wall time after which it is ended.
    pub time_limit: Duration,
    /// Bytes of standard output beyond which it is ended.
    pub output_limit: usize,
}

/// How a program ended.
#[derive(Debug)]
pub enum Ending {
    /// By itself.
    Exited(ExitStatus),
    /// It could not be started.
    NotStarted(io::Error),
    /// The time limit passed.
    TimedOut,
    /// It wrote more than the limit.
    Flooded,
    /// Stopped from our side.
    Stopped,
}

/// What is known of a program after its end.
#[derive(Debug)]
pub struct Finished {
    /// How it ended.
    pub ending: Ending,
    /// Its standard output, up to the limit.
    pub stdout: Vec<u8>,
    /// The beginning of its standard error.
    pub stderr: Vec<u8>,
    /// From just before it was started until it ended, or was ended.
    pub took: Duration,
    /// Processor seconds of it and the children it waited for.
    pub cpu_s: Option<f64>,
    /// Peak resident memory of the largest of them in KiB.
    pub peak_memory_kib: Option<u64>,
}

/// Standard error kept for messages.
const STDERR_KEPT: usize = 64 << 10;
/// How long pipes may stay open after the program ended: a child that left its group may still hold them.
const PIPES_AFTER_END: Duration = Duration::from_millis(500);
/// How often a waiting trial looks for a stop.
const STOP_CHECK: Duration = Duration::from_millis(50);

enum Event {
    Exited(Instant),
    /// A pipe was read to its end.
    Stdout,
    Stderr,
    Flooded,
}

/// What a pipe gave so far.
type Kept = Arc<Mutex<Vec<u8>>>;

/// How often a start is tried again while the machine has no process or thread to give.
const START_AGAIN: Duration = Duration::from_millis(50);
/// How long it is tried.
const START_PATIENCE: Duration = Duration::from_secs(30);

/// Starts a helper thread. Unlike [`thread::spawn`], it returns an error where the machine has no thread to give.
pub(crate) fn helper(work: impl FnOnce() + Send + 'static) -> io::Result<()> {
    thread::Builder::new().name("fonex-pipe".to_owned()).spawn(work).map(drop)
}

/// Tries `start` again while the machine has no process or thread to give: other trials end and free theirs.
pub(crate) fn patiently<T>(stop: &StopFlag, mut start: impl FnMut() -> io::Result<T>) -> io::Result<T> {
    let begun = Instant::now();
    loop {
        match start() {
            Err(error) if error.kind() == ErrorKind::WouldBlock && begun.elapsed() < START_PATIENCE => {
                if !stop.pause(START_AGAIN) {
                    return Err(error);
                }
            }
            started => return started,
        }
    }
}

/// Explains why a program could not be started.
pub(crate) fn start_reason(error: &io::Error) -> String {
    match error.kind() {
        ErrorKind::WouldBlock => {
            "this machine has no process or thread left for it (lower the plan's concurrency, or \
                                  raise the limit: ulimit -u)"
                .to_owned()
        }
        _ => crate::net::io_reason(error),
    }
}

/// A started program. Dropping it ends it with everything it started, and reaps it.
pub(crate) struct Running {
    pid: u32,
    reaped: bool,
}

impl Running {
    /// Starts a program and hands its pipes to `attach`. If that fails, the program is ended.
    pub(crate) fn start(
        command: &mut Command,
        attach: impl FnOnce(&mut Child) -> io::Result<()>,
    ) -> io::Result<Self> {
        let mut child = start(command)?;
        let running = Self { pid: child.id(), reaped: false };
        attach(&mut child)?;
        Ok(running)
    }

    pub(crate) const fn pid(&self) -> u32 {
        self.pid
    }

    /// Ends it and everything it started. While it is not reaped, its group cannot belong to another program.
    pub(crate) fn end(&mut self) -> Reaped {
        end(self.pid);
        forget(self.pid);
        self.reaped = true;
        reap(self.pid)
    }

    /// Waits up to `grace` for it to end by itself, then ends it.
    pub(crate) fn end_after(&mut self, grace: Duration) -> Reaped {
        let (pid, (sender, ended)) = (self.pid, channel());
        let waits = helper(move || {
            wait_until_exited(pid);
            // The receiver is gone when the grace has passed.
            let _ = sender.send(());
        });
        if waits.is_ok() {
            let _ = ended.recv_timeout(grace);
        }
        self.end()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if !self.reaped {
            self.end();
        }
    }
}

/// Runs a program to its end.
#[must_use]
pub fn run(job: &Job<'_>, stop: &StopFlag) -> Finished {
    let mut started = Instant::now();
    let begun = patiently(stop, || {
        started = Instant::now();
        begin(job)
    });
    let (mut running, received, [stdout, stderr]) = match begun {
        Ok(begun) => begun,
        Err(error) => return not_started(error, started),
    };
    let mut gathered = Gathered::default();
    let early = gathered.wait(&received, started + job.time_limit, stop);
    let reaped = running.end();
    gathered.wait_for_pipes(&received);
    Finished {
        ending: early.unwrap_or(Ending::Exited(reaped.status)),
        took: gathered.ended.unwrap_or_else(Instant::now).duration_since(started),
        stdout: taken(&stdout),
        stderr: taken(&stderr),
        cpu_s: Some(reaped.cpu_s),
        peak_memory_kib: reaped.peak_memory_kib,
    }
}

/// Starts the program of a job, and the threads that write and read its pipes and wait for its end.
fn begin(job: &Job<'_>) -> io::Result<(Running, Receiver<Event>, [Kept; 2])> {
    let mut command = Command::new(&job.argv[0]);
    command
        .args(&job.argv[1..])
        .envs(job.env)
        .current_dir(job.folder)
        .stdin(if job.stdin.is_some() { Stdio::piped() } else { Stdio::null() })
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let (events, received) = channel();
    let (stdout, stderr) = (Kept::default(), Kept::default());
    let running = Running::start(&mut command, |child| {
        if let (Some(mut pipe), Some(bytes)) = (child.stdin.take(), job.stdin.clone()) {
            // A program that does not read its input closes the pipe; that is its right.
            helper(move || drop(pipe.write_all(&bytes)))?;
        }
        if let Some(pipe) = child.stdout.take() {
            keep(pipe, job.output_limit, &stdout, events.clone(), Event::Stdout)?;
        }
        if let Some(pipe) = child.stderr.take() {
            keep(pipe, STDERR_KEPT, &stderr, events.clone(), Event::Stderr)?;
        }
        let pid = child.id();
        helper(move || {
            wait_until_exited(pid);
            drop(events.send(Event::Exited(Instant::now())));
        })
    })?;
    Ok((running, received, [stdout, stderr]))
}

fn not_started(error: io::Error, started: Instant) -> Finished {
    Finished {
        ending: Ending::NotStarted(error),
        stdout: Vec::new(),
        stderr: Vec::new(),
        took: started.elapsed(),
        cpu_s: None,
        peak_memory_kib: None,
    }
}

#[derive(Default)]
struct Gathered {
    stdout: bool,
    stderr: bool,
    ended: Option<Instant>,
}

impl Gathered {
    fn take(&mut self, event: Event) {
        match event {
            Event::Exited(at) => self.ended = Some(at),
            Event::Stdout => self.stdout = true,
            Event::Stderr => self.stderr = true,
            Event::Flooded => {}
        }
    }

    /// Until the program ends by itself; otherwise why it must be ended.
    fn wait(&mut self, received: &Receiver<Event>, deadline: Instant, stop: &StopFlag) -> Option<Ending> {
        while self.ended.is_none() {
            let left = deadline.saturating_duration_since(Instant::now());
            match received.recv_timeout(left.min(STOP_CHECK)) {
                Ok(Event::Flooded) => return Some(Ending::Flooded),
                Ok(event) => self.take(event),
                Err(RecvTimeoutError::Disconnected) => return None,
                Err(RecvTimeoutError::Timeout) if stop.is_set() => return Some(Ending::Stopped),
                Err(RecvTimeoutError::Timeout) if left.is_zero() => return Some(Ending::TimedOut),
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
        None
    }

    fn wait_for_pipes(&mut self, received: &Receiver<Event>) {
        let deadline = Instant::now() + PIPES_AFTER_END;
        while !self.stdout || !self.stderr {
            match received.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
                Ok(event) => self.take(event),
                Err(_) => return,
            }
        }
    }
}

/// What a pipe gave until now: a helper that still holds it does not take away what the program said.
fn taken(kept: &Kept) -> Vec<u8> {
    std::mem::take(&mut *kept.lock().expect("no holder of this lock panics"))
}

/// Reads a pipe to its end in a thread, keeping up to `limit` bytes. Beyond it, standard output is a flood, and the rest of
/// standard error is dropped.
fn keep(
    mut pipe: impl Read + Send + 'static,
    limit: usize,
    kept: &Kept,
    events: Sender<Event>,
    done: Event,
) -> io::Result<()> {
    let kept = Arc::clone(kept);
    helper(move || {
        let mut buffer = vec![0; 1 << 16];
        loop {
            match pipe.read(&mut buffer) {
                Ok(0) => break,
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                Err(_) => break,
                Ok(read) => {
                    let mut kept = kept.lock().expect("no holder of this lock panics");
                    let room = limit.saturating_sub(kept.len());
                    kept.extend_from_slice(&buffer[..read.min(room)]);
                    if read > room && matches!(done, Event::Stdout) {
                        drop(events.send(Event::Flooded));
                        break;
                    }
                }
            }
        }
        drop(events.send(done));
    })
}

#[cfg(test)]
mod tests {
    use fonex_system::failure;

    use super::*;

    fn shell(script: &str, limit_ms: u64, output_limit: usize) -> Finished {
        let argv = ["sh", "-c", script].map(str::to_owned);
        let job = Job {
            argv: &argv,
            folder: Path::new("/"),
            env: &BTreeMap::new(),
            stdin: Some(b"given".to_vec()),
            time_limit: Duration::from_millis(limit_ms),
            output_limit,
        };
        run(&job, &StopFlag::default())
    }

    #[test]
    fn output_input_and_usage_are_kept() {
        let finished = shell("cat; echo bad >&2; exit 3", 20_000, 1000);
        assert!(matches!(finished.ending, Ending::Exited(status) if status.code() == Some(3)));
        assert_eq!((finished.stdout.as_slice(), finished.stderr.as_slice()), (&b"given"[..], &b"bad\n"[..]));
        assert!(finished.peak_memory_kib.unwrap() > 100 && finished.cpu_s.unwrap() < 5.0);
    }

    /// Runs a script that writes the number of another process into a file, and hangs, until it is late; sees that nothing is left of
    /// the other. A machine may be so busy that the script was ended before it had written: it is given more time then.
    fn nothing_is_left(script: impl Fn(std::path::Display<'_>) -> String) {
        let marker = tempfile::NamedTempFile::new().unwrap();
        let other = [400, 2_000, 10_000, 50_000].into_iter().find_map(|limit_ms| {
            let finished = shell(&script(marker.path().display()), limit_ms, 1000);
            assert!(matches!(finished.ending, Ending::TimedOut), "{:?}", finished.ending);
            Some(std::fs::read_to_string(marker.path()).unwrap()).filter(|number| number.ends_with('\n'))
        });
        let other = other.expect("the script writes within a minute");
        let stat = || std::fs::read_to_string(format!("/proc/{}/stat", other.trim())).unwrap_or_default();
        // One that was told to die may not have got to it yet; it would live for five minutes.
        let started = Instant::now();
        while !(stat().is_empty() || stat().contains(") Z ")) {
            assert!(started.elapsed() < Duration::from_secs(300), "it lives on: {}", stat());
            thread::yield_now();
        }
    }

    #[test]
    fn a_hanging_program_takes_its_children_with_it() {
        nothing_is_left(|path| format!("(sleep 300; echo) & echo $! > {path}; wait"));
    }

    #[test]
    fn a_flood_is_stopped_in_bounded_memory() {
        let finished = shell("yes", 20_000, 10_000);
        assert!(matches!(finished.ending, Ending::Flooded));
        assert_eq!(finished.stdout.len(), 10_000);
    }

    #[test]
    fn a_leader_that_leaves_its_group_is_ended_too() {
        // Into the group of its parent, by way of a language that can.
        let leaves = "import os, time; os.setpgid(0, os.getpgid(os.getppid()))";
        nothing_is_left(|path| {
            let writes = format!("open(\"{path}\", \"w\").write(str(os.getpid()) + \"\\n\")");
            format!("exec python3 -c '{leaves}; {writes}; time.sleep(300)'")
        });
    }

    #[test]
    fn what_went_into_a_session_of_its_own_is_ended_with_a_program_that_is_late() {
        nothing_is_left(|path| format!("setsid sh -c 'echo $$ > {path}; sleep 300'; true"));
    }

    #[test]
    fn a_child_that_left_the_group_does_not_hold_us() {
        let finished = shell("setsid sleep 300 & echo $!; echo why >&2", 60_000, 1000);
        assert!(matches!(finished.ending, Ending::Exited(_)), "{:?}", finished.ending);
        // What it said is its answer, though a helper still holds the pipe.
        let helper: u32 = String::from_utf8(finished.stdout).unwrap().trim().parse().unwrap();
        assert!(fonex_system::is_running(helper), "it was waited for");
        assert_eq!(finished.stderr, b"why\n");
        drop(Command::new("kill").arg(helper.to_string()).status());
    }

    #[test]
    fn an_absent_program_and_a_death_are_told_apart() {
        let argv = ["/no/such/program".to_owned()];
        let (time_limit, folder) = (Duration::from_secs(9), Path::new("/"));
        let env = BTreeMap::new();
        let job = Job { argv: &argv, folder, env: &env, stdin: None, time_limit, output_limit: 10 };
        assert!(matches!(run(&job, &StopFlag::default()).ending, Ending::NotStarted(_)));
        let Ending::Exited(status) = shell("kill -9 $$", 20_000, 10).ending else { panic!("it ended by itself") };
        assert_eq!(failure(status).unwrap(), "the program was killed by signal 9");
    }
}
