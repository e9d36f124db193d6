//! Many trials on one thread end as they do on threads of their own.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;
use std::sync::{Barrier, Mutex};

use fonex_core::Outcome;
use fonex_engines::{Form, HearRequest, Request, Settings, SpeakRequest, StopFlag, juggle};
use fonex_standin::service::Fault;
use serde_json::{Value, json};

use crate::util::{audio, engine, service, with};

fn http(task: &str, request: Value, more: Value) -> Value {
    let base = json!({"transport": "http", "task": task, "request": request, "retry": {"attempts": 1}});
    with(base, more)
}

/// The fault of each trial is what its clip is called, so that one engine meets all of them side by side.
#[test]
fn every_fault_ends_a_trial_as_it_does_on_a_thread_of_its_own() {
    let service = service(|_| {});
    let faults: Vec<&str> = Fault::ALL.iter().map(|fault| fault.as_str()).filter(|name| *name != "endless").collect();
    let names: Vec<&str> = [["none"; 3].as_slice(), &faults].concat();
    let limits = json!({"connect_s": 10.0, "first_byte_s": 2.0, "idle_s": 2.0, "total_s": 120.0});
    let engine = |task: &str, send: Value| {
        let base = json!({"url": format!("http://{}/{task}", service.address()), "query": {"fault": "{clip_id}"}});
        engine(http(task, with(base, send), json!({"limits": limits})))
    };
    let (settings, stop, audio) = (Settings::new(), StopFlag::default(), audio());
    let form = |voice: &'static str, model: &'static str| Form { voice, model, settings: &settings };
    let hears = |name: &&'static str| {
        let form = form("", "river");
        Request::Hear(HearRequest { clip_id: name, lang: Some("en"), audio: &audio, form, stop: &stop, live: None })
    };
    let said = |name: &&'static str| SpeakRequest::new(name, Some("en"), "hello there", form("Ilka", ""), &stop);
    let text = json!({"json": {"text": "{text}"}});
    for (engine, requests) in [
        (engine("hear", json!({"body": "{audio}"})), names.iter().map(hears).collect::<Vec<_>>()),
        (engine("speak", text.clone()), names.iter().map(|name| Request::Speak(said(name))).collect()),
        (engine("reply", text), names.iter().map(|name| Request::Reply(said(name))).collect()),
    ] {
        let engine = engine.as_ref();
        let alone = |request: &Request<'_>| match request {
            Request::Hear(request) => engine.hear(request).map(drop),
            Request::Speak(request) => engine.speak(request).map(drop),
            Request::Reply(request) => engine.reply(request).map(drop),
        };
        let threads = std::thread::scope(|scope| {
            let running: Vec<_> = requests.iter().map(|request| scope.spawn(move || alone(request))).collect();
            running.into_iter().map(|running| running.join().unwrap()).collect::<Vec<_>>()
        });
        let beside = Mutex::new(BTreeMap::new());
        let left = Mutex::new(requests.iter().copied().enumerate());
        let next = || left.lock().unwrap().next();
        juggle(engine.as_juggled().unwrap(), 0, names.len(), next, |at, answer| {
            beside.lock().unwrap().insert(at, answer.clone());
        });
        let beside = beside.into_inner().unwrap();
        for ((name, alone), (_, beside)) in names.iter().zip(&threads).zip(&beside) {
            assert_eq!(alone.outcome, beside.outcome, "{name}: {:?}, {:?}", alone.detail, beside.detail);
            assert!(*name != "none" || beside.outcome == Outcome::Done, "{:?}", beside.detail);
            let sent = |answer: &fonex_engines::Answer<()>| answer.measured.traffic.requests.len();
            assert_eq!(sent(alone), sent(beside), "{name}");
        }
        assert_eq!(beside.len(), names.len());
    }
}

/// A service that answers nobody before seven have asked.
#[test]
fn so_many_as_are_asked_for_are_under_way_at_any_time_and_their_connections_are_kept() {
    const AT_ONCE: usize = 7;
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        let together = std::sync::Arc::new(Barrier::new(AT_ONCE));
        for stream in listener.incoming() {
            let (stream, together) = (stream.unwrap(), together.clone());
            std::thread::spawn(move || {
                let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
                while lines.by_ref().map_while(Result::ok).any(|line| line.is_empty()) {
                    together.wait();
                    (&stream).write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok").unwrap();
                }
            });
        }
    });
    let engine = engine(http(
        "reply",
        json!({"url": format!("http://{address}/{{text}}")}),
        json!({"result": {"as": "text"}}),
    ));
    let (settings, stop) = (Settings::new(), StopFlag::default());
    let form = Form { voice: "", model: "", settings: &settings };
    let left = Mutex::new(0..5 * AT_ONCE);
    let next =
        || left.lock().unwrap().next().map(|at| (at, Request::Reply(SpeakRequest::new("c", None, "a", form, &stop))));
    let opened = Mutex::new(Vec::new());
    juggle(engine.as_juggled().unwrap(), 1, AT_ONCE, next, |_, answer| {
        assert_eq!(answer.outcome, Outcome::Done, "{:?}", answer.detail);
        opened.lock().unwrap().push(answer.measured.traffic.requests[0].reused == Some(false));
    });
    let opened = opened.into_inner().unwrap();
    assert_eq!((opened.len(), opened.iter().filter(|opened| **opened).count()), (5 * AT_ONCE, AT_ONCE));
}

#[test]
fn a_stop_ends_what_is_under_way_on_one_thread() {
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let url = format!("http://{}/{{text}}", listener.local_addr().unwrap());
    let engine = engine(http("reply", json!({"url": url}), json!({"result": {"as": "text"}})));
    let (settings, stop) = (Settings::new(), StopFlag::default());
    let form = Form { voice: "", model: "", settings: &settings };
    let asked = Mutex::new(0);
    let next = || {
        let mut asked = asked.lock().unwrap();
        *asked += 1;
        (*asked <= 20).then(|| ((), Request::Reply(SpeakRequest::new("c", None, "a", form, &stop))))
    };
    let outcomes = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        let held = scope.spawn(|| {
            // Twenty have connected to a service that says nothing, and hangs up on nobody before all has ended.
            let held: Vec<_> = listener.incoming().take(20).collect();
            stop.set();
            held
        });
        juggle(engine.as_juggled().unwrap(), 0, 20, next, |(), answer| outcomes.lock().unwrap().push(answer.outcome));
        drop(held.join());
    });
    assert_eq!(outcomes.into_inner().unwrap(), [Outcome::Stopped; 20]);
}

/// Whoever would hold the thread while others wait has one of its own.
#[test]
fn what_waits_for_more_than_the_network_is_not_juggled() {
    let request = json!({"url": "http://127.0.0.1:1/", "query": {"text": "{text}"}});
    let juggled = |more: Value| engine(http("reply", request.clone(), more)).as_juggled().is_some();
    assert!(juggled(json!({})));
    for more in [
        json!({"limits": {"concurrency": 3}}),
        json!({"limits": {"requests_per_s": 3.0}}),
        json!({"limits": {"text_characters": 100}}),
        json!({"retry": {"attempts": 2}}),
        json!({"job": {"id": "/id", "state": "/state", "done": ["done"], "poll": {"url": "http://127.0.0.1:1/{job}"}}}),
    ] {
        assert!(!juggled(more.clone()), "{more}");
    }
    let socket = crate::faults::socket_table("ws://127.0.0.1:1/", json!({}));
    assert!(engine(socket).as_juggled().is_none());
}
