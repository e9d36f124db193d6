//! The table of faults, transports and outcomes. What it shows is compared with `docs/reliability.md`; with
//! `FONEX_WRITE_DOCS=1` it is written there instead.

use fonex_core::Outcome;
use fonex_engines::{Answer, Delivery, Form, HearRequest, Pace, Settings, StopFlag, hear_by};
use fonex_standin::service::Fault;
use serde_json::{Value, json};

use crate::util::{engine, hear, say, service, with};

/// Short limits, so that the faults that only wait end soon; and no second attempt.
fn limits() -> Value {
    json!({
        "limits": {"connect_s": 10.0, "first_byte_s": 2.0, "idle_s": 2.0, "total_s": 120.0},
        "retry": {"attempts": 1}
    })
}

fn seen<T: std::fmt::Debug>(answer: Answer<T>) -> (Outcome, String) {
    let detail = answer.detail.unwrap_or_default();
    assert!(detail.chars().count() <= 501, "cut at a sane length: {detail}");
    assert_eq!(answer.outcome.is_answer(), answer.value.is_some());
    (answer.outcome, detail)
}

/// How each transport ends under one fault of the service at `address`.
fn under(fault: &str, address: &str) -> [(Outcome, String); 4] {
    let query = json!({"fault": fault});
    let http = |path: &str, more: Value| {
        let request = with(json!({"url": format!("http://{address}/{path}"), "query": query}), more);
        with(limits(), json!({"transport": "http", "request": request}))
    };
    let heard = engine(with(http("hear", json!({"body": "{audio}"})), json!({"task": "hear"})));
    let sound = engine(with(http("speak", json!({"json": {"text": "{text}"}})), json!({"task": "speak"})));
    let mut stream = http("reply", json!({"json": {"text": "{text}"}}));
    stream["request"]["query"]["answer"] = json!("events");
    let stream = engine(with(stream, json!({"task": "reply", "result": {"as": "events", "end_mark": "[END]"}})));
    let socket = with(limits(), socket_table(&format!("ws://{address}/live"), query.clone()));
    let socket = engine(socket);
    [
        seen(hear(heard.as_ref())),
        seen(say("hello there", |request| sound.speak(request))),
        seen(say("hello there", |request| stream.reply(request))),
        seen(hear(socket.as_ref())),
    ]
}

/// A live recogniser.
pub fn socket_table(url: &str, query: Value) -> Value {
    json!({
        "transport": "socket", "task": "hear", "audio_container": "raw", "url": url, "query": query,
        "start": {"type": "start"}, "end": {"type": "end"}, "result": {"words": "/words"},
        "rules": [
            {"at": "/type", "equals": "ready", "means": "ready"}, {"at": "/type", "equals": "interim", "means": "interim"},
            {"at": "/type", "equals": "final", "means": "final"}, {"at": "/type", "equals": "done", "means": "closed"},
            {"at": "/type", "equals": "end_of_speech", "means": "end_of_speech"},
            {"at": "/type", "equals": "error", "means": "error"}
        ]
    })
}

#[test]
fn every_fault_has_its_outcome_over_every_transport() {
    let (service, slow) = (service(|_| {}), service(|config| config.slow_accept = std::time::Duration::from_secs(8)));
    let address = service.address().to_string();
    // What never ends keeps every core busy: it comes alone, so that nothing else is late because of it.
    let (endless, others): (Vec<&str>, Vec<&str>) =
        Fault::ALL.iter().map(|fault| fault.as_str()).partition(|name| *name == "endless");
    let mut rows: Vec<(String, [(Outcome, String); 4])> = std::thread::scope(|scope| {
        let each = |fault: &'static str| {
            let address = address.clone();
            (fault.to_owned(), scope.spawn(move || under(fault, &address)))
        };
        let mut running: Vec<_> = std::iter::once("none").chain(others).map(each).collect();
        let slow = slow.address().to_string();
        running.push(("slow-accept".to_owned(), scope.spawn(move || under("none", &slow))));
        let closed = "127.0.0.1:1".to_owned();
        running.push(("nobody-listens".to_owned(), scope.spawn(move || under("none", &closed))));
        running.into_iter().map(|(fault, running)| (fault, running.join().unwrap())).collect()
    });
    rows.extend(endless.into_iter().map(|fault| (fault.to_owned(), under(fault, &address))));
    let mut table =
        String::from("| fault | `http`, JSON | `http`, sound | `http`, events | `socket` |\n|---|---|---|---|---|\n");
    for (fault, outcomes) in &rows {
        let mut cells: Vec<&str> = outcomes.iter().map(|(outcome, _)| outcome.as_str()).collect();
        if fault == "broken-audio" {
            cells[3] = "–"; // A recogniser sends no audio.
        }
        table += &format!("| {fault} | {} |\n", cells.join(" | "));
    }
    kept("faults of a service", &table);
    // Beyond the outcome: the words that were said, where a person would look for them.
    let said = |fault: &str, transport: usize| &rows.iter().find(|(name, _)| name == fault).unwrap().1[transport].1;
    for (fault, transport, words) in [
        ("401", 0, "the key was not accepted"),
        ("500", 1, "something broke"),
        ("wrong-type", 0, "Please sign in"),
        ("malformed-json", 0, "not JSON"),
        ("malformed-json", 3, "no rule knows what it said: {\"type\": \"final\""),
        ("truncated", 0, "broke off after"),
        ("stalled", 0, "nothing more arrived for 2 s"),
        ("slow-first-byte", 2, "no first byte within 2 s"),
        ("endless", 0, "longer than 32 MiB"),
        ("endless", 1, "longer than 64 MiB"),
        ("quota", 3, "quota of this month"),
        ("broken-audio", 1, "its audio"),
        ("nobody-listens", 0, "nothing listens there"),
    ] {
        assert!(said(fault, transport).contains(words), "{fault}: {}", said(fault, transport));
    }
}

#[test]
fn audio_delivered_live_meets_every_fault_as_whole_audio_does() {
    let service = service(|_| {});
    let address = service.address();
    let both = |fault: &str| {
        let socket = engine(with(limits(), socket_table(&format!("ws://{address}/live"), json!({"fault": fault}))));
        let (settings, stop, audio) = (Settings::new(), StopFlag::default(), crate::util::audio());
        let form = Form { voice: "", model: "river", settings: &settings };
        let asked = HearRequest { clip_id: "c", lang: Some("en"), audio: &audio, form, stop: &stop, live: None };
        let live = hear_by(Delivery::Live(Pace { speed: 10.0, ..Pace::default() }), socket.as_ref(), &asked);
        [hear(socket.as_ref()).outcome, live.outcome]
    };
    std::thread::scope(|scope| {
        // What never ends is tried with whole audio, where it comes alone.
        let faults = Fault::ALL.iter().map(|fault| fault.as_str()).filter(|name| *name != "endless");
        let both = &both;
        let running: Vec<_> =
            std::iter::once("none").chain(faults).map(|fault| (fault, scope.spawn(move || both(fault)))).collect();
        for (fault, running) in running {
            let [whole, live] = running.join().unwrap();
            assert_eq!(whole, live, "{fault}");
            assert!(fault != "none" || live == Outcome::Done, "a sound service is heard");
        }
    });
}

/// Compares a table with the one that stands between marks in the page on reliability, or writes it there.
pub fn kept(name: &str, table: &str) {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reliability.md");
    let page = std::fs::read_to_string(path).unwrap();
    let begin = format!("<!-- {name}: written by a test -->\n");
    let (before, rest) = page.split_once(&begin).expect("the page has a place for the table");
    let (there, after) = rest.split_once("<!-- end -->").expect("the place has an end");
    if std::env::var_os("FONEX_WRITE_DOCS").is_some() {
        std::fs::write(path, format!("{before}{begin}{table}<!-- end -->{after}")).unwrap();
    } else {
        assert_eq!(there, table, "FONEX_WRITE_DOCS=1 cargo test writes the table anew");
    }
}
