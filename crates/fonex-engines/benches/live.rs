//! How true live delivery is with many streams at once: `cargo bench -p fonex-engines --bench live -- [STREAMS]`.
//!
//! Each stream sends three seconds of silence in frames of 100 ms to a bare listener, which does nothing but wait for the end
//! of the audio, hold for 50 ms, note the moment, and send it as the words of the final result. Told are how late frames were
//! sent, and how much later than the moment noted the final result was known to Fonex. Both share the machine.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a measurement that fails here says where")]

mod util;

use std::net::SocketAddr;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use fonex_core::audio::Audio;
use fonex_core::latency::{LiveEvent, LiveWhat, Pacing, Percentiles};
use fonex_engines::{Delivery, Engine, Form, HearRequest, Live, Pace, Settings, StopFlag, hear_by};
use futures_util::{SinkExt, StreamExt};
use tokio::net::{TcpListener, TcpStream};
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;

const HELD: Duration = Duration::from_millis(50);
const AUDIO_S: f64 = 3.0;

fn main() {
    let typed = std::env::args().skip(1).find_map(|word| word.parse::<usize>().ok());
    let audio = Audio { rate_hz: 16_000, samples: vec![0.0; (16_000.0 * AUDIO_S) as usize] };
    let zero = Instant::now();
    let engine = engine(listener(zero));
    println!("streams     frames   late p50   late p99   late max   known p50  known p99   idle sleep p99");
    for streams in typed.map_or_else(|| vec![1, 10, 100], |streams| vec![streams]) {
        let (late, known) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
        std::thread::scope(|scope| {
            for stream in 0..streams {
                let (late, known, engine, audio) = (&late, &known, engine.as_ref(), &audio);
                scope.spawn(move || {
                    // People do not all begin to speak in the same millisecond.
                    std::thread::sleep(Duration::from_micros(stream as u64 * 997));
                    // Before the lock is taken: streams run side by side.
                    let pacing = deliver(engine, audio, zero, known);
                    late.lock().unwrap().push(pacing);
                });
            }
        });
        let (late, known) = (late.into_inner().unwrap(), Percentiles::of(&known.into_inner().unwrap()).unwrap());
        let of = |pick: fn(&Pacing) -> f64| Percentiles::of(&late.iter().map(pick).collect::<Vec<_>>()).unwrap();
        let frames: u64 = late.iter().map(|pacing| pacing.frames).sum();
        let row =
            [of(|p| p.late_p50_ms).p50, of(|p| p.late_p99_ms).p50, of(|p| p.late_max_ms).max, known.p50, known.p99];
        let row = row.map(|ms| format!("{ms:>7.2} ms")).join(" ");
        println!("{streams:>7} {frames:>10} {row} {:>13.2} ms", oversleep_p99_ms());
    }
}

/// One stream; notes how long after the listener's moment its final result was known.
fn deliver(engine: &dyn Engine, audio: &Audio, zero: Instant, known: &Mutex<Vec<f64>>) -> Pacing {
    let (settings, stop) = (Settings::new(), StopFlag::default());
    let form = Form { voice: "", model: "", settings: &settings };
    let watch = |event: &LiveEvent| {
        let now = zero.elapsed();
        if event.what == LiveWhat::Final {
            let sent = Duration::from_nanos(event.text.parse().unwrap());
            known.lock().unwrap().push((now.as_secs_f64() - sent.as_secs_f64()) * 1e3);
        }
    };
    let live = Some(Live { watch: Some(&watch), ..Live::paced(Pace::default()) });
    let request = HearRequest { clip_id: "c", lang: None, audio, form, stop: &stop, live };
    let answer = hear_by(Delivery::Live(Pace::default()), engine, &request);
    assert!(answer.outcome.is_answer(), "{:?}", answer.detail);
    answer.measured.traffic.live.unwrap().pacing
}

/// A listener on a thread of its own; moments are counted from `zero`.
fn listener(zero: Instant) -> SocketAddr {
    let (told, address) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
            told.send(listener.local_addr().unwrap()).unwrap();
            loop {
                let (stream, _) = listener.accept().await.unwrap();
                tokio::spawn(listen(stream, zero));
            }
        });
    });
    address.recv().unwrap()
}

async fn listen(stream: TcpStream, zero: Instant) {
    stream.set_nodelay(true).unwrap();
    let small = WebSocketConfig::default().read_buffer_size(8 << 10);
    let mut socket = tokio_tungstenite::accept_async_with_config(stream, Some(small)).await.unwrap();
    while let Some(Ok(message)) = socket.next().await {
        match message {
            Message::Text(text) if text.contains("start") => {
                socket.send(Message::text(r#"{"type":"ready"}"#)).await.unwrap();
            }
            Message::Text(text) if text.contains("end") => {
                tokio::time::sleep(HELD).await;
                let now = zero.elapsed().as_nanos();
                socket.send(Message::text(format!(r#"{{"type":"final","text":"{now}"}}"#))).await.unwrap();
                socket.send(Message::text(r#"{"type":"done"}"#)).await.unwrap();
            }
            _ => {}
        }
    }
}

/// How late the machine wakes a sleeper that has nothing else to do.
fn oversleep_p99_ms() -> f64 {
    let late: Vec<f64> = (0..300)
        .map(|_| {
            let due = Instant::now() + Duration::from_millis(3);
            std::thread::sleep(Duration::from_millis(3));
            due.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    Percentiles::of(&late).unwrap().p99
}

fn engine(address: SocketAddr) -> Box<dyn Engine> {
    let rule = |kind: &str, means: &str| serde_json::json!({"at": "/type", "equals": kind, "means": means});
    let table = serde_json::json!({
        "transport": "socket", "task": "hear", "audio_container": "raw", "url": format!("ws://{address}/live"),
        "start": {"type": "start"}, "end": {"type": "end"},
        "rules": [rule("ready", "ready"), rule("final", "final"), rule("done", "closed")],
    });
    util::engine(table)
}
