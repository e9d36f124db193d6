//! Hostile services and programs, each asked once by the real program: what comes of it, how long it takes, how much memory.

use std::collections::BTreeMap;
use std::fs;
use std::time::Duration;

use fonex_core::audio::Audio;
use fonex_engines::StopFlag;
use fonex_engines::process::{Job, run};
use serde_json::{Value, json};

use crate::servers;

/// Seconds a trial may take in all, by its bench file.
pub const LIMIT_S: f64 = 3.0;
/// The most memory the program may take, whatever it meets.
const MOST_MEMORY_MIB: u64 = 300;
/// How often one is asked before it counts as late: a pause of the machine makes anything late.
const TRIES: usize = 5;

/// One peer, and how a trial with it must end.
pub struct Peer {
    pub name: &'static str,
    /// One outcome, or several of which a slower machine may see another.
    outcome: &'static str,
    table: Value,
    speaks: bool,
}

impl Peer {
    /// What is wrong with how a trial with it ended.
    pub fn fault(&self, met: &Met) -> Option<&'static str> {
        if !self.outcome.split(' ').any(|outcome| outcome == met.outcome) {
            Some("another outcome")
        } else if met.memory_mib > MOST_MEMORY_MIB {
            Some("too much memory")
        } else {
            None
        }
    }

    /// Whether what is wrong may be no more than a pause of the machine.
    pub fn may_be_slow(&self, met: &Met) -> bool {
        met.outcome == "late" && self.fault(met) == Some("another outcome")
    }
}

/// What came of one.
pub struct Met {
    pub outcome: String,
    pub detail: String,
    #[allow(dead_code, reason = "the bench tells it; no test asserts a time")]
    pub took_s: f64,
    pub memory_mib: u64,
}

fn http(
    name: &'static str,
    outcome: &'static str,
    serve: fn(&mut std::net::TcpStream) -> std::io::Result<()>,
) -> Peer {
    let url = format!("http://{}/", servers::start(serve));
    let events = name.contains("events");
    let (form, speaks) = (if events { "events" } else { "json" }, name.contains("sound"));
    let result = if speaks { json!({"as": "audio"}) } else { json!({"as": form, "text": "/text"}) };
    let body = if speaks { "{text}" } else { "{audio}" };
    let table = json!({"transport": "http", "request": {"url": url, "body": body}, "result": result});
    Peer { name, outcome, table, speaks }
}

fn socket(
    name: &'static str,
    outcome: &'static str,
    serve: fn(&mut std::net::TcpStream) -> std::io::Result<()>,
) -> Peer {
    let url = format!("ws://{}/", servers::start(serve));
    let rules = json!([
        {"means": "final", "at": "/final", "equals": true}, {"means": "interim", "at": "/final", "equals": false},
        {"means": "closed", "at": "/closed", "equals": true}
    ]);
    let table = json!({"transport": "socket", "url": url, "rules": rules, "result": {"text": "/text"}});
    Peer { name, outcome, table, speaks: false }
}

fn program(name: &'static str, outcome: &'static str, script: &str) -> Peer {
    let speaks = name.contains("sound");
    let mut table = json!({"transport": "command", "command": ["sh", "-c", script]});
    if speaks {
        table["command"] = json!(["sh", "-c", script, "sh", "{output}", "{text}"]);
    } else {
        table["stdin"] = json!("audio");
        table["result"] = json!({"as": if name.contains("json") { "json" } else { "text" }, "text": "/text"});
        if !name.contains("json") {
            table["result"] = json!({"as": "text"});
        }
    }
    Peer { name, outcome, table, speaks }
}

/// A worker that is ready and then does this for each request, whose id is in `$id`.
fn worker(name: &'static str, outcome: &'static str, body: &str) -> Peer {
    let script = format!(
        "echo '{{\"ready\":1}}'; while read -r line; do id=$(printf %s \"$line\" | sed 's/.*\"id\":\\([0-9]*\\).*/\\1/'); {body}; done"
    );
    starting(name, outcome, &script)
}

fn starting(name: &'static str, outcome: &'static str, script: &str) -> Peer {
    let table = json!({"transport": "worker", "ready_s": LIMIT_S, "command": ["sh", "-c", script]});
    Peer { name, outcome, table, speaks: name.contains("sound") }
}

const OBJECTS: &str = r#"python3 -c 'print("[" + "{\"\":0}," * (4 << 20) + "0]")'"#;

/// All of them.
pub fn peers() -> Vec<Peer> {
    vec![
        http("a service: 31 MiB of small objects", "broken", servers::objects),
        http("a service: 31 MiB of empty arrays", "broken", servers::arrays),
        http("a service: 31 MiB of numbers", "broken", servers::numbers),
        http("a service: eight million open brackets", "broken", servers::brackets),
        http("a service: 4 GB in 4 MB of gzip", "broken late", servers::unpacking),
        http("a service: a head without end", "broken late", servers::endless_head),
        http("a service: an answer without end", "broken late", servers::endless_body),
        http("a service: a byte now and then", "late", servers::drip),
        http("a service: events without end", "broken late", servers::endless_events),
        http("a service: sound of two billion samples", "broken", servers::silence),
        http("a service: no answer", "late", servers::nothing),
        socket("a socket: pings without end", "broken late", servers::pings),
        socket("a socket: final words without end", "broken late", servers::finals),
        socket("a socket: interim words without end", "broken late", servers::interims),
        socket("a socket: binary messages without end", "broken late", servers::binary),
        socket("a socket: a message in pieces without end", "broken late", servers::fragments),
        socket("a socket: a message of the largest size", "broken", servers::large_message),
        socket("a socket: a message of small objects", "broken late", servers::many_objects),
        socket("a socket: no message", "late", servers::nothing),
        program("a program: small objects as json", "broken late", OBJECTS),
        program("a program: text without end", "broken late", "yes"),
        program("a program: a line without end", "broken late", "tr '\\0' x < /dev/zero"),
        program("a program: complaints without end", "late", "yes error >&2"),
        program("a program: sound is /dev/zero", "broken", "rm -f \"$1\"; ln -s /dev/zero \"$1\""),
        program("a program: sound is a pipe", "broken", "rm -f \"$1\"; mkfifo \"$1\""),
        program("a program: sound is a folder", "broken", "rm -f \"$1\"; mkdir \"$1\""),
        program("a program: sound has holes of 100 GB", "broken", "truncate -s 100G \"$1\""),
        program("a program: it never ends", "late", "sleep 600"),
        program("a program: its child has a session of its own", "late", "setsid sleep 600"),
        program(
            "a program: it leaves its group",
            "late",
            "exec python3 -c 'import os, time; os.setpgid(0, os.getpgid(os.getppid())); time.sleep(600)'",
        ),
        program("a program: it stops itself", "late", "kill -STOP $$"),
        worker("a worker: lines without end", "broken late", "yes"),
        worker("a worker: a line without end", "broken late", "tr '\\0' x < /dev/zero"),
        worker(
            "a worker: small objects",
            "broken",
            &format!("printf '{{\"id\":%s,\"usage\":' $id; {OBJECTS} | tr -d '\\n'; echo '}}'"),
        ),
        worker(
            "a worker: steps of a reply without end",
            "broken late",
            "yes \"{\\\"id\\\":$id,\\\"more\\\":\\\"a\\\"}\"",
        ),
        worker("a worker: sound is /dev/zero", "broken", "printf '{\"id\":%s,\"audio\":\"/dev/zero\"}\\n' $id"),
        worker(
            "a worker: sound is a pipe",
            "broken",
            "mkfifo pipe 2>/dev/null; printf '{\"id\":%s,\"audio\":\"pipe\"}\\n' $id",
        ),
        worker("a worker: a field of the wrong kind", "broken", "printf '{\"id\":%s,\"text\":7}\\n' $id"),
        worker("a worker: it says it was stopped", "broken", "printf '{\"id\":%s,\"outcome\":\"stopped\"}\\n' $id"),
        starting("a worker: lines before it is ready", "broken unreachable", "yes"),
        starting("a worker: never ready", "unreachable", "echo loading; sleep 600"),
        starting(
            "a worker: answers before it is asked",
            "late",
            "echo '{\"ready\":1}'; for id in 0 1 2 3 4 5; do echo \"{\\\"id\\\":$id,\\\"text\\\":\\\"x\\\"}\"; done; sleep 600",
        ),
    ]
}

/// Lets a program ask a peer until that was not `late`, a few times at the most.
pub fn meet(fonex: &str, peer: &Peer, mut late: impl FnMut(&Met) -> bool) -> Met {
    let mut tries = 1;
    loop {
        let met = meet_once(fonex, peer);
        if !late(&met) || tries == TRIES {
            return met;
        }
        tries += 1;
    }
}

/// Lets it ask once, in a folder of its own.
fn meet_once(fonex: &str, peer: &Peer) -> Met {
    let folder = tempfile::tempdir().expect("there is room");
    let audio = Audio { rate_hz: 16_000, samples: (0..16_000).map(|i| (i as f32 * 0.07).sin() * 0.3).collect() };
    let wav = fonex_formats::audio::encode_wav(&audio).expect("it has samples");
    fs::write(folder.path().join("a.wav"), wav).expect("there is room");
    let limits = json!({"total_s": LIMIT_S, "first_byte_s": LIMIT_S, "idle_s": LIMIT_S, "connect_s": LIMIT_S});
    let mut table = peer.table.clone();
    table["task"] = json!(if peer.speaks { "speak" } else { "hear" });
    (table["limits"], table["retry"]) = (limits, json!({"attempts": 1}));
    let bench = toml::to_string(&json!({"engine": {"peer": table}})).expect("it has no nulls");
    fs::write(folder.path().join("fonex.toml"), bench).expect("there is room");
    let given = if peer.speaks { "Good morning." } else { "a.wav" };
    let argv = [fonex, "try", "peer", given, "--format", "json"].map(str::to_owned);
    let job = Job {
        argv: &argv,
        folder: folder.path(),
        env: &BTreeMap::new(),
        stdin: None,
        time_limit: Duration::from_secs(60),
        output_limit: 8 << 20,
    };
    let finished = run(&job, &StopFlag::default());
    let said = String::from_utf8_lossy(&finished.stdout).into_owned();
    let told = String::from_utf8_lossy(&finished.stderr).into_owned();
    let answer: Value = serde_json::from_str(&said)
        .unwrap_or_else(|_| panic!("{}: {:?}\n{said}\n{told}", peer.name, finished.ending));
    Met {
        outcome: answer["outcome"].as_str().unwrap_or_default().to_owned(),
        detail: answer["detail"].as_str().unwrap_or_default().to_owned(),
        took_s: finished.took.as_secs_f64(),
        memory_mib: finished.peak_memory_kib.unwrap_or_default() >> 10,
    }
}
