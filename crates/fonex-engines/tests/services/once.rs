//! No request is done twice: repeated is only what cannot have begun, or what may be done twice.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use fonex_core::Outcome;
use serde_json::{Value, json};

use crate::util::{engine, hear, with};

/// A server for one connection at a time. `serve` is given each connection and how many requests were read whole before.
fn server(serve: impl Fn(TcpStream, &AtomicUsize) + Send + 'static) -> (String, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/", listener.local_addr().unwrap());
    let read = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&read);
    thread::spawn(move || listener.incoming().flatten().for_each(|stream| serve(stream, &counted)));
    (url, read)
}

/// Reads a request whole; false when the client is gone.
fn read_request(reader: &mut impl BufRead) -> bool {
    let mut length = 0;
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).unwrap_or(0) == 0 {
            return false;
        }
        if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = value.trim().parse().unwrap();
        }
        if line == "\r\n" {
            break;
        }
    }
    std::io::copy(&mut reader.take(length), &mut std::io::sink()).is_ok_and(|read| read == length)
}

fn answer(mut stream: &TcpStream) {
    let [head, body] = answer_of("hold");
    // A client that is gone is no failure of the test.
    drop(stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body.as_bytes())));
}

fn answer_of(text: &str) -> [String; 2] {
    let body = json!({ "text": text }).to_string();
    [format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", body.len()), body]
}

fn table(url: &str, attempts: u32, more: Value) -> Value {
    let request = with(json!({"url": url, "body": "{audio}"}), more);
    let retry = json!({"attempts": attempts, "first_wait_s": 0.001});
    json!({"transport": "http", "task": "hear", "retry": retry, "request": request, "result": {"text": "/text"}})
}

#[test]
fn a_request_that_a_kept_connection_swallowed_is_not_sent_again_unless_it_may_be() {
    for (request, outcome, read) in [
        (json!({}), Outcome::Broken, 2),
        (json!({"safe_to_repeat": true}), Outcome::Done, 3),
        (json!({"method": "PUT"}), Outcome::Done, 3),
    ] {
        // Each connection answers its first request and swallows its second.
        let (url, requests) = server(|stream, requests| {
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            for turn in 0..2 {
                if read_request(&mut reader) {
                    requests.fetch_add(1, Ordering::SeqCst);
                    if turn == 0 {
                        answer(&stream);
                    }
                }
            }
        });
        let engine = engine(table(&url, 3, request.clone()));
        assert_eq!(hear(engine.as_ref()).outcome, Outcome::Done);
        assert_eq!(hear(engine.as_ref()).outcome, outcome, "{request}");
        assert_eq!(requests.load(Ordering::SeqCst), read, "{request}");
    }
}

#[test]
fn what_a_service_sends_behind_its_answer_is_no_answer_to_the_next_request() {
    let twice = ["hold", "stray"].map(|text| answer_of(text).concat()).concat();
    let (url, _) = server(move |mut stream, _| {
        let mut reader = BufReader::new(stream.try_clone().unwrap());
        while read_request(&mut reader) && stream.write_all(twice.as_bytes()).is_ok() {}
    });
    let engine = engine(table(&url, 1, json!({})));
    for turn in 0..20 {
        assert_eq!(hear(engine.as_ref()).value.map(|heard| heard.text).as_deref(), Some("hold"), "turn {turn}");
    }
}

/// A reset may overtake the acknowledgement of what was read.
#[test]
fn a_small_request_that_was_read_and_answered_with_a_reset_is_not_sent_again() {
    let (url, requests) = server(|stream, requests| {
        let mut reader = BufReader::new(stream.try_clone().unwrap());
        for turn in 0..2 {
            if read_request(&mut reader) {
                requests.fetch_add(1, Ordering::SeqCst);
                if turn == 0 {
                    answer(&stream);
                } else {
                    let stream =
                        tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(async {
                            stream.set_nonblocking(true).unwrap();
                            tokio::net::TcpStream::from_std(stream.try_clone().unwrap())
                                .inspect(|s| s.set_zero_linger().unwrap())
                        });
                    drop(stream);
                    return;
                }
            }
        }
    });
    let request = json!({"body": "a", "headers": {}});
    let speaker = json!({"task": "reply", "result": {"text": "/text"}});
    for turn in 1..=20 {
        let mut asked = with(table(&url, 3, request.clone()), speaker.clone());
        asked["request"]["body"] = json!("{text}");
        let engine = engine(asked);
        let say = || crate::util::say("a", |request| engine.reply(request)).outcome;
        assert_eq!(say(), Outcome::Done);
        assert_eq!((say(), requests.load(Ordering::SeqCst)), (Outcome::Broken, 2 * turn));
    }
}

#[test]
fn a_connection_that_was_closed_in_between_is_no_attempt() {
    // The server hangs up behind every answer without a word. A request that meets the hanging up half-way may have been read and is
    // rightly not repeated: each one here comes after it.
    let hung_up = Arc::new(AtomicUsize::new(0));
    let own = Arc::clone(&hung_up);
    let (url, requests) = server(move |stream, requests| {
        let mut reader = BufReader::new(stream.try_clone().unwrap());
        if read_request(&mut reader) {
            requests.fetch_add(1, Ordering::SeqCst);
            answer(&stream);
        }
        drop(stream.shutdown(Shutdown::Both));
        own.fetch_add(1, Ordering::SeqCst);
    });
    let engine = engine(table(&url, 1, json!({})));
    for at in 0..200 {
        let heard = hear(engine.as_ref());
        assert_eq!(heard.outcome, Outcome::Done, "{at}: {:?}", heard.detail);
        while hung_up.load(Ordering::SeqCst) <= at {
            thread::yield_now();
        }
    }
    assert_eq!(requests.load(Ordering::SeqCst), 200);
}

/// What a service does with a stream of HTTP/2 once it has read the request whole.
#[derive(Debug, Clone, Copy)]
enum Ends {
    Answered,
    Reset(u32),
    /// With the last stream it says to have worked on.
    GoneAway(u32),
    Closed,
}

fn frame(kind: u8, flags: u8, stream: u32, payload: &[u8]) -> Vec<u8> {
    let mut bytes = (payload.len() as u32).to_be_bytes()[1..].to_vec();
    bytes.extend([kind, flags]);
    bytes.extend(stream.to_be_bytes());
    bytes.extend(payload);
    bytes
}

/// Speaks just enough HTTP/2 (RFC 9113) to end the n-th request as told.
fn serve_two(mut stream: TcpStream, requests: &AtomicUsize, ends: &[Ends]) {
    const END_STREAM: u8 = 1;
    const ACK: u8 = 1;
    const END_HEADERS: u8 = 4;
    let mut preface = [0; 24];
    let mut reader = stream.try_clone().unwrap();
    if reader.read_exact(&mut preface).is_err() || stream.write_all(&frame(4, 0, 0, &[])).is_err() {
        return;
    }
    let mut head = [0; 9];
    while reader.read_exact(&mut head).is_ok() {
        let length = u32::from_be_bytes([0, head[0], head[1], head[2]]) as usize;
        let (kind, flags) = (head[3], head[4]);
        let id = u32::from_be_bytes([head[5] & 0x7f, head[6], head[7], head[8]]);
        if reader.read_exact(&mut vec![0; length]).is_err() {
            return;
        }
        let mut out = Vec::new();
        if kind == 4 && flags & ACK == 0 {
            out = frame(4, ACK, 0, &[]);
        }
        if kind == 0 && length > 0 {
            out = frame(8, 0, 0, &(length as u32).to_be_bytes());
        }
        let mut over = false;
        if matches!(kind, 0 | 1) && flags & END_STREAM != 0 {
            match ends[requests.fetch_add(1, Ordering::SeqCst).min(ends.len() - 1)] {
                Ends::Answered => {
                    // The static table's eighth entry is ":status: 200" (RFC 7541).
                    out.extend(frame(1, END_HEADERS, id, &[0x88]));
                    out.extend(frame(0, END_STREAM, id, br#"{"text":"hold"}"#));
                }
                Ends::Reset(code) => out.extend(frame(3, 0, id, &code.to_be_bytes())),
                Ends::GoneAway(last) => {
                    out.extend(frame(7, 0, 0, &[last.to_be_bytes(), 0_u32.to_be_bytes()].concat()));
                    over = true;
                }
                Ends::Closed => return,
            }
        }
        if stream.write_all(&out).is_err() {
            return;
        }
        if over {
            // To close while something is unread would take back what was sent.
            drop(stream.shutdown(Shutdown::Write));
            drop(std::io::copy(&mut reader, &mut std::io::sink()));
            return;
        }
    }
}

#[test]
fn a_stream_of_http_2_is_repeated_only_when_it_was_refused_unread() {
    const NO_ERROR: u32 = 0;
    const REFUSED_STREAM: u32 = 7;
    const CANCEL: u32 = 8;
    for (first, attempts, outcome, read) in [
        (Ends::Answered, 1, Outcome::Done, 1),
        (Ends::Reset(REFUSED_STREAM), 3, Outcome::Done, 2),
        (Ends::Reset(REFUSED_STREAM), 1, Outcome::Broken, 1),
        (Ends::Reset(CANCEL), 3, Outcome::Broken, 1),
        (Ends::Reset(NO_ERROR), 3, Outcome::Broken, 1),
        (Ends::GoneAway(0), 3, Outcome::Done, 2),
        (Ends::GoneAway(1), 3, Outcome::Broken, 1),
        (Ends::Closed, 3, Outcome::Broken, 1),
    ] {
        let (url, requests) = server(move |stream, requests| serve_two(stream, requests, &[first, Ends::Answered]));
        let engine = engine(with(table(&url, attempts, json!({})), json!({"http_version": "2"})));
        let heard = hear(engine.as_ref());
        assert_eq!(
            (heard.outcome, requests.load(Ordering::SeqCst)),
            (outcome, read),
            "{first:?}: {:?}",
            heard.detail
        );
    }
}

#[test]
fn a_connection_of_http_2_that_ends_between_two_requests_is_no_attempt() {
    let ends = [Ends::Answered, Ends::GoneAway(1), Ends::Answered];
    let (url, requests) = server(move |stream, requests| serve_two(stream, requests, &ends));
    let engine = engine(with(table(&url, 1, json!({})), json!({"http_version": "2"})));
    // The second stream, 3, is above the last the server worked on.
    assert_eq!(hear(engine.as_ref()).outcome, Outcome::Done);
    assert_eq!(hear(engine.as_ref()).outcome, Outcome::Done);
    assert_eq!(requests.load(Ordering::SeqCst), 3);
}

#[test]
fn a_gateway_that_failed_may_have_passed_the_request_on() {
    for (request, read) in [(json!({}), 1), (json!({"safe_to_repeat": true}), 3)] {
        let (url, requests) = server(|stream, requests| {
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            while read_request(&mut reader) {
                requests.fetch_add(1, Ordering::SeqCst);
                drop((&stream).write_all(b"HTTP/1.1 502 Bad Gateway\r\nContent-Length: 0\r\n\r\n"));
            }
        });
        let engine = engine(table(&url, 3, request));
        assert_eq!(hear(engine.as_ref()).outcome, Outcome::Unreachable);
        assert_eq!(requests.load(Ordering::SeqCst), read);
    }
}
