//! How true live delivery is with many streams at once: `cargo bench -p fonex-engines --bench live -- [STREAMS]`.
//!
//! Each stream sends three seconds of silence in frames of 100 ms to the stand-in service, which holds the final result for
//! 50 ms after the end of the audio. Told are how late frames were sent, and how much later than those 50 ms after the end
//! of the audio the final result is said to have come; service and client share the machine, and both are in that.
#![allow(clippy::unwrap_used, reason = "a measurement that fails here says where")]

mod util;

use std::sync::Mutex;
use std::time::{Duration, Instant};

use fonex_core::Clip;
use fonex_core::audio::Audio;
use fonex_core::latency::{LiveWhat, Percentiles};
use fonex_engines::{Delivery, Engine, Form, HearRequest, Pace, Settings, StopFlag};
use fonex_standin::service::{Service, ServiceConfig};
use fonex_standin::{Behaviours, HearProfile};

const HELD_MS: f64 = 50.0;
const AUDIO_S: f64 = 3.0;

fn main() {
    let typed = std::env::args().skip(1).find_map(|word| word.parse::<usize>().ok());
    let clip = Clip { id: "c".to_owned(), text: "hold".to_owned(), ..Clip::default() };
    let audio = Audio { rate_hz: 16_000, samples: vec![0.0; (16_000.0 * AUDIO_S) as usize] };
    let ears = Behaviours::Hear([("default".to_owned(), HearProfile::default())].into());
    let engines = [("ears".to_owned(), ears)].into();
    let config = ServiceConfig { engines, clips: vec![(clip, audio.clone())], ..ServiceConfig::default() };
    let service = Service::start(config, 0).unwrap();
    let engine = engine(&service);
    println!("streams     frames   late p50   late p99   late max   final p50  final p99   idle sleep p99");
    for streams in typed.map_or_else(|| vec![1, 10, 100], |streams| vec![streams]) {
        let (late, finals) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
        std::thread::scope(|scope| {
            for stream in 0..streams {
                let (late, finals, engine, audio) = (&late, &finals, engine.as_ref(), &audio);
                scope.spawn(move || {
                    // People do not all begin to speak in the same millisecond.
                    std::thread::sleep(Duration::from_micros(stream as u64 * 997));
                    let (settings, stop) = (Settings::new(), StopFlag::default());
                    let form = Form { voice: "", model: "", settings: &settings };
                    let request = HearRequest { clip_id: "c", lang: None, audio, form, stop: &stop, live: None };
                    let answer = Delivery::Live(Pace::default()).hear(engine, &request);
                    assert!(answer.outcome.is_answer(), "{:?}", answer.detail);
                    let log = answer.measured.traffic.live.unwrap();
                    let last = log.events.iter().rev().find(|event| event.what == LiveWhat::Final).unwrap();
                    late.lock().unwrap().push(log.pacing);
                    finals.lock().unwrap().push(last.at_ms - AUDIO_S * 1e3 - HELD_MS);
                });
            }
        });
        let (late, finals) = (late.into_inner().unwrap(), Percentiles::of(&finals.into_inner().unwrap()).unwrap());
        let of = |pick: fn(&fonex_core::latency::Pacing) -> f64| {
            Percentiles::of(&late.iter().map(pick).collect::<Vec<_>>()).unwrap()
        };
        let frames: u64 = late.iter().map(|pacing| pacing.frames).sum();
        let row =
            [of(|p| p.late_p50_ms).p50, of(|p| p.late_p99_ms).p50, of(|p| p.late_max_ms).max, finals.p50, finals.p99];
        let row = row.map(|ms| format!("{ms:>7.2} ms")).join(" ");
        println!("{streams:>7} {frames:>10} {row} {:>13.2} ms", oversleep_p99_ms());
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

fn engine(service: &Service) -> Box<dyn Engine> {
    let rule = |kind: &str, means: &str| serde_json::json!({"at": "/type", "equals": kind, "means": means});
    let table = serde_json::json!({
        "transport": "socket", "task": "hear", "audio_container": "raw",
        "url": format!("ws://{}/live", service.address()),
        // The service listens to all of it only at the end, so that its own work does not crowd the machine.
        "query": {"engine": "ears", "clip": "c", "wait_ms": HELD_MS.to_string(), "interim_ms": "100000"},
        "start": {"type": "start"}, "end": {"type": "end"},
        "rules": [rule("ready", "ready"), rule("interim", "interim"), rule("final", "final"), rule("done", "closed"),
                  rule("end_of_speech", "end_of_speech")],
    });
    util::engine(table)
}
