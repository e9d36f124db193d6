//! How true the clocks are, and how many requests a second are made. `cargo bench --workspace --bench clocks`, or with `-- rates 100`
//! the latter alone, at a hundred at once.
//!
//! The stand-in service holds each answer for a known time and says for how long it really held it. What is reported as
//! the time from the request being sent to the first byte is compared with that. Then requests that are answered at once
//! are made as fast as they go, by Fonex and by a plain generator on the same service: a loop that writes the same bytes
//! and reads to the end of each answer, and `wrk` where it is installed. Fonex asks in both of its ways: with a thread for each trial, as
//! a run does, and with many trials on a thread for each processor, as load does.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a measurement that fails here says where")]

mod util;

use std::cell::Cell;
use std::net::SocketAddr;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use fonex_core::latency::Percentiles;
use fonex_engines::{Answer, Engine, Form, Request, Settings, SpeakRequest, StopFlag, juggle};
use fonex_standin::service::{Service, ServiceConfig};
use fonex_standin::{Behaviours, ReplyProfile};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// The program's own.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How long the service holds its answers. A thousand at once are held ten times as long: answers that come faster than the machine can
/// take them show how much it takes, not how true a clock is.
const WAITS_MS: [u32; 3] = [7, 23, 52];

fn waits_ms(at_once: usize) -> [u32; 3] {
    WAITS_MS.map(|wait_ms| wait_ms * (at_once / 100).max(1) as u32)
}

fn main() {
    let reply = ReplyProfile { start_ms: 0.0, word_ms: 0.0, words: 4, earlier_word_ms: 0.0 };
    let head = Behaviours::Reply([("default".to_owned(), reply)].into());
    let config = ServiceConfig { engines: [("head".to_owned(), head)].into(), ..ServiceConfig::default() };
    let service = Service::start(config, 0).unwrap();
    let arguments: Vec<String> = std::env::args().collect();
    let asked: Vec<usize> = arguments.iter().filter_map(|argument| argument.parse().ok()).collect();
    let at_once = if asked.is_empty() { vec![1, 10, 100, 1000] } else { asked };
    if !arguments.iter().any(|argument| argument == "rates") {
        println!("reported minus held, from sending to the first byte; plain: by a bare loop over sockets");
        println!("at once  trials   requests        p50  plain p50        p99  plain p99");
        for at_once in &at_once {
            WAYS.iter().for_each(|way| clocks(service.address(), *at_once, *way));
        }
    }
    println!(
        "\nrequests a second, answered at once: medians of {ROUNDS} rounds, each by all in turn; shares with their spread"
    );
    println!("at once  trials       fonex      plain      share                      wrk      share");
    for at_once in at_once {
        rates(service.address(), at_once);
    }
}

fn engine(address: SocketAddr, wait_ms: u32) -> Box<dyn Engine> {
    let table = serde_json::json!({
        "transport": "http", "task": "reply", "retry": {"attempts": 1},
        "request": {"url": format!("http://{address}/reply"), "query": {"text": "{text}", "wait_ms": wait_ms.to_string()}}
    });
    util::engine(table)
}

/// How trials are made.
#[derive(Clone, Copy, PartialEq)]
enum Way {
    Threads,
    Juggled,
}

const WAYS: [Way; 2] = [Way::Threads, Way::Juggled];

impl Way {
    fn name(self) -> &'static str {
        match self {
            Self::Threads => "threads",
            Self::Juggled => "juggled",
        }
    }
}

/// Calls so many at once, each of them as long as `more` says of the number it has called; `note` sees every answer.
fn call(
    engine: &dyn Engine,
    (at_once, way): (usize, Way),
    more: &(dyn Fn(usize) -> bool + Sync),
    note: &(dyn Fn(f64, f64) + Sync),
) {
    let (settings, stop) = (Settings::new(), StopFlag::default());
    let form = Form { voice: "", model: "", settings: &settings };
    let request = SpeakRequest::new("c", None, "hello", form, &stop);
    let threads = if way == Way::Juggled { at_once.min(2) } else { at_once };
    std::thread::scope(|scope| {
        for thread in 0..threads {
            let request = &request;
            scope.spawn(move || match way {
                Way::Threads => {
                    for _ in (0..).take_while(|called| more(*called)) {
                        look(&engine.reply(request), note);
                    }
                }
                Way::Juggled => {
                    let (lanes, called) = ((at_once + thread) / threads, Cell::new(0));
                    let next = || {
                        let before = called.replace(called.get() + 1);
                        more(before / lanes).then_some(((), Request::Reply(*request)))
                    };
                    juggle(engine.as_juggled().unwrap(), thread, lanes, next, |(), answer| look(answer, note));
                }
            });
        }
    });
}

fn look<T>(answer: &Answer<T>, note: &(dyn Fn(f64, f64) + Sync)) {
    assert!(answer.outcome.is_answer(), "{:?}", answer.detail);
    let asked = answer.measured.traffic.requests.last().unwrap();
    let (Some(first), Some(sent), Some(held)) = (asked.first_byte_ms, asked.sent_ms, asked.service_ms()) else {
        panic!("not everything was noted: {:?}", answer.measured.traffic.requests);
    };
    note(first - sent, held);
}

fn clocks(address: SocketAddr, at_once: usize, way: Way) {
    let errors = std::sync::Mutex::new(Vec::new());
    let each = (2_000 / at_once).clamp(40, 200);
    for wait_ms in waits_ms(at_once) {
        let engine = engine(address, wait_ms);
        // Uncounted, as load does it: a thousand connections that are opened at once show how fast the service accepts them.
        call(engine.as_ref(), (at_once, way), &|called| called < 1, &|_, _| {});
        call(engine.as_ref(), (at_once, way), &|called| called < each, &|reported, held| {
            errors.lock().unwrap().push(reported - held);
        });
    }
    let errors = errors.into_inner().unwrap();
    let plain = Arc::new(std::sync::Mutex::new(Vec::new()));
    runtime().block_on(async {
        for wait_ms in waits_ms(at_once) {
            let ask = |_| tokio::spawn(ask(address, wait_ms, Some(each), Arc::clone(&plain)));
            for asked in (0..at_once).map(ask).collect::<Vec<_>>() {
                asked.await.unwrap();
            }
        }
    });
    let plain = Percentiles::of(&plain.lock().unwrap()).unwrap();
    let own = Percentiles::of(&errors).unwrap();
    let row = [own.p50, plain.p50, own.p99, plain.p99].map(|ms| format!("{ms:>7.3} ms"));
    println!("{at_once:>7} {} {:>10} {}", way.name(), errors.len(), row.join(" "));
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap()
}

/// Rounds in which each generator has a turn, so that a busy moment of the machine meets all of them.
const ROUNDS: usize = 7;

fn rates(address: SocketAddr, at_once: usize) {
    const LASTS: Duration = Duration::from_secs(1);
    let engine = engine(address, 0);
    let (mut own, mut plain, mut wrk) = ([Vec::new(), Vec::new()], Vec::new(), Vec::new());
    for way in WAYS {
        call(engine.as_ref(), (at_once, way), &|called| called < 20, &|_, _| {});
    }
    for _ in 0..ROUNDS {
        for (own, way) in own.iter_mut().zip(WAYS) {
            own.push(fonex(engine.as_ref(), (at_once, way), LASTS));
        }
        plain.push(bare(address, at_once, LASTS));
        wrk.extend(by_wrk(address, at_once, LASTS));
    }
    let beside = |own: &[f64], others: &[f64]| match others.len() {
        ROUNDS => {
            let shares = own.iter().zip(others).map(|(own, other)| own / other).collect::<Vec<f64>>();
            let [least, middle, most] = spread(&shares);
            format!("{:>10.0} {middle:>10.2} ({least:.2} to {most:.2})", spread(others)[1])
        }
        _ => format!("{:>10} {:>10}", "–", "–"),
    };
    for (own, way) in own.iter().zip(WAYS) {
        println!(
            "{at_once:>7} {} {:>10.0} {} {}",
            way.name(),
            spread(own)[1],
            beside(own, &plain),
            beside(own, &wrk)
        );
    }
}

/// The least, the middle and the most.
fn spread(values: &[f64]) -> [f64; 3] {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    [sorted[0], sorted[sorted.len() / 2], sorted[sorted.len() - 1]]
}

fn fonex(engine: &dyn Engine, at_once: (usize, Way), lasts: Duration) -> f64 {
    let answered = AtomicUsize::new(0);
    let started = Instant::now();
    call(engine, at_once, &|_| started.elapsed() < lasts, &|_, _| {
        answered.fetch_add(1, Ordering::Relaxed);
    });
    answered.into_inner() as f64 / started.elapsed().as_secs_f64()
}

/// Connections that write one request after the other and read each answer by its stated length.
fn bare(address: SocketAddr, at_once: usize, lasts: Duration) -> f64 {
    let errors = Arc::new(std::sync::Mutex::new(Vec::new()));
    let started = Instant::now();
    runtime().block_on(async {
        let loops: Vec<_> = (0..at_once).map(|_| tokio::spawn(ask(address, 0, None, Arc::clone(&errors)))).collect();
        tokio::time::sleep(lasts).await;
        loops.iter().for_each(tokio::task::JoinHandle::abort);
    });
    let answered = errors.lock().unwrap().len();
    answered as f64 / started.elapsed().as_secs_f64()
}

/// One connection: what it waited for each first byte beyond what the service says it held.
async fn ask(address: SocketAddr, wait_ms: u32, each: Option<usize>, errors: Arc<std::sync::Mutex<Vec<f64>>>) {
    let mut stream = tokio::net::TcpStream::connect(address).await.unwrap();
    stream.set_nodelay(true).unwrap();
    let request = format!("GET /reply?text=hello&wait_ms={wait_ms} HTTP/1.1\r\nhost: {address}\r\n\r\n");
    let mut read = vec![0; 16 << 10];
    // Of those whose clock is looked at, the first is not counted either.
    let uncounted = usize::from(each.is_some());
    for asked in 0..each.map_or(usize::MAX, |each| each + uncounted) {
        stream.write_all(request.as_bytes()).await.unwrap();
        let sent = Instant::now();
        let (mut have, mut waited) = (0, None);
        let held = loop {
            have += stream.read(&mut read[have..]).await.unwrap();
            waited.get_or_insert(sent.elapsed());
            let mut headers = [httparse::EMPTY_HEADER; 16];
            let mut answer = httparse::Response::new(&mut headers);
            let Ok(httparse::Status::Complete(head)) = answer.parse(&read[..have]) else { continue };
            let header = |name: &str| {
                let header = answer.headers.iter().find(|header| header.name.eq_ignore_ascii_case(name)).unwrap();
                std::str::from_utf8(header.value).unwrap().trim_start_matches("held;dur=").parse::<f64>().unwrap()
            };
            if have >= head + header("content-length") as usize {
                break header("server-timing");
            }
        };
        if asked >= uncounted {
            errors.lock().unwrap().push(waited.unwrap().as_secs_f64() * 1e3 - held);
        }
    }
}

fn by_wrk(address: SocketAddr, at_once: usize, lasts: Duration) -> Option<f64> {
    let (connections, seconds) = (at_once.to_string(), format!("{}s", lasts.as_secs()));
    let threads = at_once.min(2).to_string();
    let url = format!("http://{address}/reply?text=hello&wait_ms=0");
    let output =
        Command::new("wrk").args(["-t", &threads, "-c", &connections, "-d", &seconds, &url]).output().ok()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    text.lines().find_map(|line| line.trim().strip_prefix("Requests/sec:")?.trim().parse().ok())
}
