//! Services ask and answer in many ways; each gives the same text, or the same sound.

use fonex_core::Outcome;
use fonex_core::latency::Request;
use serde_json::{Value, json};

use crate::faults::socket_table;
use crate::util::{KEY, LABEL, engine, hear, say, service, with};

fn request(address: &str, path: &str, more: Value) -> Value {
    with(json!({"url": format!("http://{address}/{path}")}), more)
}

#[test]
fn every_way_of_asking_and_answering_gives_the_same_text() {
    let service = service(|config| config.keys = vec![KEY.to_owned()]);
    let address = service.address().to_string();
    let key = json!({"headers": {"Authorization": "Bearer {env.STANDIN_KEY}"}});
    let ways = [
        ("raw body", json!({"body": "{audio}"}), json!({"words": "/words", "lang": "/language"}), "wav"),
        ("FLAC", json!({"body": "{audio}"}), json!({"text": "$.text"}), "flac"),
        ("bare samples", json!({"body": "{audio}", "query": {"rate": "{audio_rate_hz}"}}), json!({}), "raw"),
        ("form", json!({"form": {"audio": "{audio}", "model": "{model}"}}), json!({}), "wav"),
        ("Base64", json!({"json": {"audio": "{audio_base64}", "model": "{model}"}}), json!({}), "wav"),
        (
            "key in the query",
            json!({"body": "{audio}", "query": {"key": "{env.STANDIN_KEY}"}, "headers": {}}),
            json!({}),
            "wav",
        ),
        ("compressed", json!({"body": "{audio}", "query": {"gzip": "1"}}), json!({"usage": "/usage"}), "wav"),
        ("plain text", json!({"body": "{audio}", "query": {"answer": "text"}}), json!({"as": "text"}), "wav"),
        (
            "lines",
            json!({"body": "{audio}", "query": {"answer": "lines", "chunk_ms": "1"}}),
            json!({"as": "lines"}),
            "wav",
        ),
        (
            "events",
            json!({"body": "{audio}", "query": {"answer": "events", "chunk_ms": "1"}}),
            json!({"as": "events", "end_mark": "[END]"}),
            "wav",
        ),
    ];
    for (way, asked, result, container) in ways {
        let table = json!({
            "transport": "http", "task": "hear", "audio_container": container,
            "request": with(request(&address, "hear", key.clone()), asked), "result": result
        });
        let heard = engine(table);
        for turn in 0..2 {
            let answer = hear(heard.as_ref());
            assert_eq!(
                (answer.outcome, answer.value.as_ref().map(|h| h.text.as_str())),
                (Outcome::Done, Some(LABEL)),
                "{way}: {answer:?}"
            );
            let language = answer.value.as_ref().and_then(|heard| heard.lang.as_deref());
            assert_eq!(language, (way == "raw body").then_some("en"), "{way}");
            let noted = &answer.measured.traffic.requests[0];
            in_order(noted);
            assert_eq!(noted.reused, Some(turn > 0), "{way}: a second request uses the connection of the first");
            assert!(!noted.service.is_empty() && noted.service_ms() <= noted.first_byte_ms, "{way}: {noted:?}");
            assert!(!format!("{answer:?}").contains(KEY));
        }
        let first = hear(heard.as_ref()).measured.first_ms;
        assert_eq!(first.is_some(), ["lines", "events"].contains(&way), "{way} comes in steps or whole");
    }
    for (frame, audio) in [("binary", Value::Null), ("Base64", json!({"type": "audio", "data": "{audio_base64}"}))] {
        let mut table = socket_table(&format!("ws://{address}/live"), json!({"key": "{env.STANDIN_KEY}"}));
        if !audio.is_null() {
            table["audio"] = audio;
        }
        let answer = hear(engine(table).as_ref());
        assert_eq!(answer.value.as_ref().map(|h| h.text.as_str()), Some(LABEL), "{frame}: {answer:?}");
        let session = &answer.measured.traffic.requests[0];
        assert!(session.sent_bytes > 64_000 && answer.measured.first_ms.unwrap() < answer.measured.took_ms.unwrap());
    }
}

/// The phases of a request follow each other.
fn in_order(noted: &Request) {
    let moments = [Some(0.0), noted.sent_ms, noted.first_byte_ms, noted.last_byte_ms];
    let moments: Vec<f64> = moments.into_iter().map(|moment| moment.expect("every moment is noted")).collect();
    assert!(moments.is_sorted(), "{noted:?}");
    assert_eq!(noted.connect_ms.is_some(), noted.reused == Some(false));
}

#[test]
fn every_way_of_giving_sound_gives_the_same_sound() {
    let service = service(|_| {});
    let address = service.address().to_string();
    let text = json!({"text": "{text}", "voice": "{voice}"});
    let speak = |query: Value, result: Value| {
        let request = request(&address, "speak", json!({"json": text, "query": query}));
        say("Mind the doors.", |asked| {
            engine(json!({"transport": "http", "task": "speak", "request": request, "result": result})).speak(asked)
        })
    };
    let whole = speak(json!({}), json!({}));
    let expected = whole.value.expect("it speaks");
    assert!(expected.duration_s() > 0.3);
    let ways = [
        ("chunked", json!({"answer": "chunked", "chunk_ms": "1"}), json!({})),
        ("raw chunks", json!({"answer": "raw", "chunk_ms": "1"}), json!({"raw_rate_hz": expected.rate_hz})),
        ("Base64", json!({"answer": "json"}), json!({"as": "json", "audio": "/audio"})),
        ("link", json!({"answer": "link"}), json!({"as": "json", "audio_link": "/link"})),
    ];
    for (way, query, result) in ways {
        let answer = speak(query, result);
        let measured = answer.measured;
        assert!(answer.value.as_ref() == Some(&expected), "{way}: {:?} {:?}", answer.outcome, answer.detail);
        let purposes: Vec<&str> = measured.traffic.requests.iter().map(|r| r.purpose.as_str()).collect();
        assert_eq!(purposes, if way == "link" { vec!["ask", "fetch"] } else { vec!["ask"] });
        if way.contains("chunk") {
            let arrivals: Vec<(f64, u32)> = measured.traffic.arrivals.iter().collect();
            let bytes: u64 = arrivals.iter().map(|(_, bytes)| u64::from(*bytes)).sum();
            assert_eq!(bytes, measured.traffic.requests[0].received_bytes);
            assert!(arrivals.len() >= 5 && arrivals.is_sorted_by(|a, b| a.0 <= b.0), "{way}: {arrivals:?}");
            assert!(measured.first_ms.unwrap() < measured.took_ms.unwrap());
        }
    }
    let socket = engine(json!({
        "transport": "socket", "task": "speak", "url": format!("ws://{address}/live-speak"),
        "text": {"type": "text", "text": "{text}", "voice": "{voice}"}, "result": {"raw_rate_hz": expected.rate_hz},
        "rules": [{"binary": true, "means": "audio"}, {"at": "/type", "equals": "done", "means": "closed"}]
    }));
    let live = say("Mind the doors.", |asked| socket.speak(asked));
    assert_eq!(live.value.map(|audio| audio.samples.len()), Some(expected.samples.len()));
}

#[test]
fn jobs_are_followed_and_nothing_is_left_on_the_server() {
    let service = service(|_| {});
    let address = service.address().to_string();
    let job = |query: Value| {
        json!({
            "transport": "http", "task": "hear", "limits": {"total_s": 4.0}, "retry": {"attempts": 1},
            "request": request(&address, "jobs", json!({"body": "{audio}", "query": query})),
            "job": {
                "id": "/job/id", "state": "/state", "done": ["done"], "failed": ["failed"], "every_s": 0.05,
                "poll": {"url": format!("http://{address}/jobs/{{job}}")},
                "fetch": {"url": format!("http://{address}/jobs/{{job}}/result")},
                "delete": {"url": format!("http://{address}/jobs/{{job}}"), "method": "DELETE"}
            }
        })
    };
    let answer = hear(engine(job(json!({"wait_ms": "120"}))).as_ref());
    assert_eq!(answer.value.map(|heard| heard.text).as_deref(), Some(LABEL));
    let requests = &answer.measured.traffic.requests;
    let purposes: Vec<&str> = requests.iter().map(|r| r.purpose.as_str()).collect();
    assert!(purposes.len() >= 6 && purposes.starts_with(&["submit", "poll", "poll"]), "{purposes:?}");
    assert!(purposes.ends_with(&["fetch", "delete"]), "{purposes:?}");
    let took = answer.measured.took_ms.unwrap();
    assert!(took >= 120.0, "{took}");

    let failed = hear(engine(job(json!({"state": "failed"}))).as_ref());
    assert_eq!(failed.outcome, Outcome::Broken);
    assert!(failed.detail.unwrap().contains("the job ended as failed"));
    let late = hear(engine(job(json!({"wait_ms": "60000"}))).as_ref());
    assert_eq!(late.outcome, Outcome::Late);
    assert!(late.detail.unwrap().contains("still running after 4 s"));
    assert_eq!(service.jobs_left(), 0, "every job was deleted, whatever became of it");
}

#[test]
fn an_engines_own_voices_are_listed() {
    let service = service(|_| {});
    let list = format!("http://{}/voices", service.address());
    let engine = engine(json!({
        "transport": "http", "task": "speak",
        "request": {"url": list, "json": {"text": "{text}"}},
        "voice_list": {"request": {"url": list}, "items": "/voices", "id": "/id", "languages": "/languages", "price": "/price"}
    }));
    let voices = engine.voices_listed(&fonex_engines::Settings::new()).unwrap().unwrap();
    assert_eq!(
        (voices.len(), voices[0].id.as_str(), voices[0].languages.as_slice()),
        (1, "Ilka", &["en".to_owned()][..])
    );
    assert!(voices[0].price.is_some());
}
