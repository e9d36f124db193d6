//! What is promised around a call: repeats, waits, rates, rules of the bench file, and what is refused beforehand.

use std::time::Instant;

use fonex_core::Outcome;
use fonex_engines::RetryAdvice;
use serde_json::{Value, json};

use crate::util::{KEY, LABEL, engine, hear, say, service, try_engine, with};

fn hearing(address: &str, query: Value, more: Value) -> Value {
    let request = json!({"url": format!("http://{address}/hear"), "query": query, "body": "{audio}"});
    with(json!({"transport": "http", "task": "hear", "request": request}), more)
}

#[test]
fn what_may_be_repeated_is_and_every_attempt_is_kept() {
    let service = service(|_| {});
    let address = service.address().to_string();
    let attempts = |fault: &str, retry_after: &str| {
        let query = json!({"fault": fault, "retry_after": retry_after});
        let retry = json!({"retry": {"attempts": 3, "first_wait_s": 0.01, "longest_wait_s": 2.0}});
        let (before, started) = (service.served(), Instant::now());
        let answer = hear(engine(hearing(&address, query, retry)).as_ref());
        let noted: Vec<u32> = answer.measured.traffic.requests.iter().map(|r| r.attempt).collect();
        assert_eq!(noted.len() as u64, service.served() - before, "{fault}: what was sent is what was noted");
        (noted, started.elapsed().as_secs_f64(), answer)
    };
    // A request that the service may have worked on already is not sent again.
    for (fault, times) in [("503", 3), ("500", 1), ("401", 1), ("quota", 1), ("truncated", 1), ("empty", 1)] {
        let (noted, _, answer) = attempts(fault, "0");
        assert_eq!(noted, (1..=times).collect::<Vec<u32>>(), "{fault}: {answer:?}");
    }
    let (noted, waited, _) = attempts("429", "1");
    assert!(noted == [1, 2, 3] && waited >= 2.0, "it asked for a second before each repeat: {waited} s");
    let (noted, _, answer) = attempts("429", "3600");
    assert!(noted == [1] && answer.detail.as_ref().unwrap().contains("asked to wait 3600 s"), "{answer:?}");
    let tomorrow = "Fri, 31 Dec 2100 23:59:59 GMT";
    assert_eq!(attempts("429", tomorrow).0, [1], "a date is a wish as well");
    assert_eq!(attempts("quota", "1").2.then, RetryAdvice::QuotaGone);
}

#[test]
fn rates_and_numbers_at_once_are_kept() {
    let service = service(|_| {});
    let address = service.address().to_string();
    let timed = |limits: Value, query: Value| {
        let engine = engine(hearing(&address, query, json!({"limits": limits})));
        let started = Instant::now();
        std::thread::scope(|scope| {
            for _ in 0..6 {
                scope.spawn(|| assert_eq!(hear(engine.as_ref()).outcome, Outcome::Done));
            }
        });
        started.elapsed().as_secs_f64()
    };
    let slow = timed(json!({"requests_per_s": 20.0}), json!({}));
    assert!(slow >= 0.25, "six at 20 a second begin over a quarter of a second: {slow}");
    let one = timed(json!({"concurrency": 1}), json!({"wait_ms": "50"}));
    assert!(one >= 0.3, "one after the other: {one}");
}

#[test]
fn rules_of_the_bench_file_decide_what_an_answer_means() {
    let service = service(|_| {});
    let address = service.address().to_string();
    let ruled = |query: Value, rule: Value| {
        let answer =
            hear(engine(hearing(&address, query, json!({"outcomes": [rule], "retry": {"attempts": 1}}))).as_ref());
        (answer.outcome, answer.then)
    };
    let fault = |name: &str| json!({"fault": name});
    let says = |rule: Value| ruled(fault("404"), rule);
    assert_eq!(says(json!({"status": 404, "outcome": "nothing"})).0, Outcome::Nothing);
    assert_eq!(says(json!({"status": 500, "outcome": "nothing"})).0, Outcome::Refused);
    assert_eq!(says(json!({"at": "/error/message", "matches": "no such", "outcome": "unclear"})).0, Outcome::Unclear);
    assert_eq!(says(json!({"status": 404, "outcome": "refused", "quota": true})).1, RetryAdvice::QuotaGone);
    assert_eq!(says(json!({"status": 404, "outcome": "broken", "again": true})).1, RetryAdvice::Repeat(None));
    let heard = json!({"at": "/text", "matches": "^Hold", "outcome": "unclear"});
    assert_eq!(ruled(json!({}), heard).0, Outcome::Unclear, "also of an answer with a good status");
}

#[test]
fn long_texts_are_cut_at_sentences_and_joined() {
    let service = service(|_| {});
    let request =
        json!({"url": format!("http://{}/speak", service.address()), "json": {"text": "{text}", "voice": "{voice}"}});
    let table = |limits: Value| json!({"transport": "http", "task": "speak", "request": request, "limits": limits});
    let text = "The doors are closing. Please stand back. The next cabin leaves soon.";
    let whole = say(text, |asked| engine(table(json!({}))).speak(asked));
    let refused = say(text, |asked| engine(table(json!({"text_characters": 30}))).speak(asked));
    assert_eq!((refused.outcome, refused.measured.traffic.requests.len()), (Outcome::Refused, 0));
    let limits = json!({"text_characters": 30, "long_text": "split"});
    let split = say(text, |asked| engine(table(limits)).speak(asked));
    assert_eq!((split.outcome, split.measured.traffic.pieces), (Outcome::Done, Some(3)));
    let (split, whole) = (split.value.unwrap().duration_s(), whole.value.unwrap().duration_s());
    assert!((split - whole).abs() < 0.2 * whole, "{split} s in parts, {whole} s whole");
}

#[test]
fn what_cannot_work_is_told_before_the_first_request() {
    let good = hearing("127.0.0.1:9", json!({}), json!({}));
    let told = |change: fn(&mut Value)| {
        let (folder, mut table) = (tempfile::tempdir().unwrap(), good.clone());
        change(&mut table);
        match try_engine(folder.path(), table) {
            Ok(_) => panic!("it was taken"),
            Err(problem) => problem.to_string(),
        }
    };
    type Change = fn(&mut Value);
    let changes: [(Change, &str); 12] = [
        (|t| t["request"]["headers"] = json!({"X": "{mdoel}"}), "write \"{model}\""),
        (|t| t["request"]["headers"] = json!({"X": "{settings.beam}"}), "does not exist"),
        (|t| t["request"]["headers"] = json!({"X": "{env.NO_SUCH_KEY_HERE}"}), "NO_SUCH_KEY_HERE is not set"),
        (|t| t["request"]["body"] = json!("none"), "never contains"),
        (|t| t["request"]["json"] = json!({}), "one body"),
        (|t| t["request"]["url"] = json!("ftp://there"), "not the address"),
        (|t| t["result"] = json!({"text": "text"}), "a JSON Pointer such as"),
        (|t| t["result"] = json!({"text": "$.a[("}), "not a JSONPath"),
        (|t| t["limits"] = json!({"total_s": 0}), "total_s is 0"),
        (|t| t["outcomes"] = json!([{"matches": "(", "outcome": "nothing"}]), "not a regular expression"),
        (|t| t["outcomes"] = json!([{"outcome": "nothing"}]), "fits every answer"),
        (|t| t["ca_file"] = json!("no-such.pem"), "no-such.pem"),
    ];
    for (change, words) in changes {
        let problem = told(change);
        assert!(problem.contains(words), "{words}: {problem}");
        assert!(problem.contains("engine.e"), "the place is named: {problem}");
    }
}

#[test]
fn a_wrong_key_names_the_variable_and_never_shows() {
    let service = service(|config| config.keys = vec!["another".to_owned()]);
    let address = service.address().to_string();
    let key = json!({"Authorization": "Bearer {env.STANDIN_KEY}"});
    let mut table = hearing(&address, json!({}), json!({}));
    table["request"]["headers"] = key.clone();
    let http = hear(engine(table).as_ref());
    let socket =
        with(crate::faults::socket_table(&format!("ws://{address}/live"), json!({})), json!({"headers": key}));
    let socket = hear(engine(socket).as_ref());
    for answer in [http, socket] {
        assert_eq!(answer.outcome, Outcome::Refused);
        assert!(answer.detail.as_ref().unwrap().contains("look at STANDIN_KEY"), "{answer:?}");
        assert!(!format!("{answer:?}").contains(KEY), "{answer:?}");
    }
}

/// Sends raw bytes to a service and gives its answer.
fn exchange(address: std::net::SocketAddr, request: &str) -> String {
    use std::io::{Read, Write};
    let mut stream = std::net::TcpStream::connect(address).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = [0; 4096];
    let read = stream.read(&mut answer).unwrap();
    String::from_utf8_lossy(&answer[..read]).into_owned()
}

#[test]
fn a_query_value_begins_no_header_and_no_wait_is_too_long_for_a_clock() {
    let service = service(|_| {});
    let split = "GET /speak?text=a&fault=429&retry_after=1%0d%0aX-Evil:%201 HTTP/1.1\r\nHost: h\r\n\r\n";
    let answer = exchange(service.address(), split);
    assert!(answer.starts_with("HTTP/1.1 429") && !answer.to_lowercase().contains("\r\nx-evil"), "{answer}");
    // One that waits for ever and a day keeps on serving others.
    let endless = "GET /speak?text=a&wait_ms=1e300 HTTP/1.1\r\nHost: h\r\n\r\n";
    let mut waiting = std::net::TcpStream::connect(service.address()).unwrap();
    std::io::Write::write_all(&mut waiting, endless.as_bytes()).unwrap();
    assert!(exchange(service.address(), "GET /voices HTTP/1.1\r\nHost: h\r\n\r\n").starts_with("HTTP/1.1 200"));
}

#[test]
fn numbers_that_no_engine_has_are_told_with_their_place() {
    let folder = tempfile::tempdir().unwrap();
    for (table, key) in [
        (json!({"transport": "standin", "task": "hear", "behaviour": {"default": {"start_ms": 1e308}}}), "start_ms"),
        (json!({"transport": "standin", "task": "hear", "behaviour": {"default": {"rtf": 1e19}}}), "rtf"),
        (json!({"transport": "standin", "task": "hear", "limits": {"requests_per_s": 1e-320}}), "requests_per_s"),
        (json!({"transport": "standin", "task": "hear", "limits": {"total_s": 1e300}}), "total_s"),
        (json!({"transport": "standin", "task": "hear", "retry": {"longest_wait_s": 1e300}}), "longest_wait_s"),
    ] {
        let Err(problem) = try_engine(folder.path(), table) else { panic!("{key} was taken") };
        assert!(problem.to_string().contains(key), "{problem}");
    }
}

/// What cannot stand in an address is encoded; an address that cannot be sent is refused before anything is sent.
#[test]
fn an_address_goes_where_it_says_or_nowhere() {
    let service = service(|_| {});
    let address = service.address().to_string();
    let table = |path: &str, query: Value| {
        let request = json!({"url": format!("http://{address}{path}"), "query": query, "body": "{audio}"});
        json!({"transport": "http", "task": "hear", "request": request})
    };
    let odd = hear(engine(table("/hear?note=big model <1>|^`", json!({}))).as_ref());
    let text = odd.value.as_ref().map(|heard| heard.text.as_str());
    assert_eq!((odd.outcome, text), (Outcome::Done, Some(LABEL)), "{:?}", odd.detail);
    let before = service.served();
    let long = hear(engine(table("/hear", json!({"text": "x".repeat(70_000)}))).as_ref());
    assert_eq!((long.outcome, service.served() - before), (Outcome::Refused, 0), "{long:?}");
    let why = long.detail.unwrap();
    assert!(why.contains("at most 65534 can be sent") && why.contains("into the body"), "{why}");
    let socket = json!({"transport": "socket", "task": "hear", "audio_container": "raw",
        "url": format!("ws://{address}/live"), "query": {"text": "x".repeat(70_000)},
        "rules": [{"at": "/type", "equals": "final", "means": "final"}]});
    let before = service.served();
    let long = hear(engine(socket).as_ref());
    assert_eq!((long.outcome, service.served() - before), (Outcome::Refused, 0), "{long:?}");
}
