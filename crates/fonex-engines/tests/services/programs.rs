//! Workers and commands: good ones, and every way of misbehaving.

use fonex_core::Outcome;
use fonex_engines::Answer;
use serde_json::{Value, json};

use crate::faults::kept;
use crate::util::{KEY, engine, hear, say, with};

fn shell(transport: &str, task: &str, script: &str) -> Value {
    let limits = json!({"limits": {"total_s": 3.0}, "retry": {"attempts": 1}});
    with(limits, json!({"transport": transport, "task": task, "command": ["sh", "-c", script]}))
}

/// A worker's script: ready, then for each request what `body` does with its id in `$id`.
fn worker(body: &str) -> Value {
    let script = format!(
        "echo '{{\"ready\":1,\"name\":\"test 1\"}}'; while read -r line; do \
         id=$(printf %s \"$line\" | sed 's/.*\"id\":\\([0-9]*\\).*/\\1/'); {body}; done"
    );
    shell("worker", "hear", &script)
}

const ANSWER: &str = r#"printf '{"id":%s,"text":"hold at"}\n' "$id""#;

#[test]
fn a_worker_stays_and_its_start_is_no_latency() {
    let counting = worker(&format!("sleep 0.02; {ANSWER}"));
    let script = counting["command"][2].as_str().unwrap().replacen("echo", "sleep 1; echo", 1);
    let engine = engine(with(counting, json!({"command": ["sh", "-c", script]})));
    let begun = std::time::Instant::now();
    let first = hear(engine.as_ref());
    let whole_ms = begun.elapsed().as_secs_f64() * 1e3;
    let second = hear(engine.as_ref());
    assert_eq!(first.value.unwrap().text, "hold at");
    let start_up = first.measured.traffic.start_up_ms.unwrap();
    // The two follow each other: neither holds the other.
    let took_ms = first.measured.took_ms.unwrap();
    assert!(start_up >= 1_000.0 && start_up + took_ms <= whole_ms, "{start_up} and {took_ms} of {whole_ms} ms");
    assert_eq!(second.measured.traffic.start_up_ms, None, "the second trial finds it ready");
    assert!(second.measured.peak_memory_kib.is_some());
    assert_eq!(engine.version().as_deref(), Some("test 1"));
}

#[test]
fn replies_in_steps_and_sound_from_a_worker() {
    let steps = r#"printf '{"id":%s,"more":"one "}\n' $id; sleep 0.05; printf '{"id":%s,"more":"two"}\n' $id; printf '{"id":%s}\n' $id"#;
    let replier = engine(with(worker(steps), json!({"task": "reply"})));
    let reply = say("hello", |asked| replier.reply(asked));
    assert_eq!(reply.value.as_deref(), Some("one two"), "{:?}", reply.detail);
    assert!(reply.measured.first_ms.unwrap() <= reply.measured.took_ms.unwrap());
    let raw = r#"printf '{"id":%s,"audio_base64":"AAAAEAAgADA="}\n' $id"#;
    let speaker = engine(with(worker(raw), json!({"task": "speak", "raw_rate_hz": 8000})));
    assert_eq!(say("hello", |asked| speaker.speak(asked)).value.unwrap().samples.len(), 4);
}

#[test]
fn a_worker_is_restarted_after_a_crash_and_its_noise_is_kept() {
    let crashing = engine(worker(&format!(
        "echo 'loading weights'; if [ -e seen ]; then {ANSWER}; else touch seen; echo dying >&2; exit 7; fi"
    )));
    let crashed = hear(crashing.as_ref());
    assert_eq!(crashed.outcome, Outcome::Broken);
    let detail = crashed.detail.unwrap();
    assert!(detail.contains("exit code 7") && detail.contains("it said: dying"), "{detail}");
    let again = hear(crashing.as_ref());
    assert_eq!(
        (again.outcome, again.measured.traffic.noise.as_slice()),
        (Outcome::Done, &["loading weights".to_owned()][..])
    );
    assert!(again.measured.traffic.start_up_ms.is_some(), "it was started anew");
}

#[test]
fn secrets_reach_a_program_by_its_environment_only() {
    let env = json!({"env": {"TOKEN": "{env.STANDIN_KEY}"}});
    let echoing = engine(with(
        shell("command", "hear", "echo \"token is $TOKEN\""),
        with(json!({"stdin": "audio"}), env.clone()),
    ));
    assert_eq!(
        hear(echoing.as_ref()).value.unwrap().text,
        "token is [STANDIN_KEY]",
        "it is redacted out of what is heard"
    );
    let failing = engine(with(
        shell("command", "hear", "echo \"bad key $TOKEN\" >&2; exit 1"),
        with(json!({"stdin": "audio"}), env),
    ));
    let failed = format!("{:?}", hear(failing.as_ref()));
    assert!(failed.contains("bad key") && !failed.contains(KEY), "{failed}");
    let folder = tempfile::tempdir().unwrap();
    let argument =
        json!({"transport": "command", "task": "hear", "command": ["x", "{audio}", "--key={env.STANDIN_KEY}"]});
    let problem = crate::util::try_engine(folder.path(), argument).err().unwrap().to_string();
    assert!(problem.contains("shows the variable STANDIN_KEY to everyone"), "{problem}");
}

#[test]
fn exit_codes_and_words_are_mapped_and_the_warm_up_call_is_made_once() {
    let rules = json!({"outcomes": [
        {"exit_code": 4, "outcome": "nothing"}, {"exit_code": 5, "outcome": "refused", "quota": true},
        {"matches": "(?i)could not understand", "outcome": "unclear"}
    ]});
    let outcome = |script: &str| {
        hear(engine(with(shell("command", "hear", script), with(json!({"stdin": "audio"}), rules.clone()))).as_ref())
            .outcome
    };
    assert_eq!(outcome("exit 4"), Outcome::Nothing);
    assert_eq!(outcome("exit 5"), Outcome::Refused);
    let silent = shell("command", "hear", "exit 4");
    let silent = hear(engine(with(silent, with(json!({"stdin": "audio"}), rules.clone()))).as_ref());
    assert_eq!(
        silent.value.map(|heard| heard.text).as_deref(),
        Some(""),
        "no words are an answer, not a missing one"
    );
    assert_eq!(outcome("echo Could not understand"), Outcome::Unclear);
    assert_eq!(outcome("exit 6"), Outcome::Broken);
    let warm = json!({"stdin": "audio", "warm_up_command": ["sh", "-c", "echo x >> warmed"], "folder": "."});
    let counted = engine(with(shell("command", "hear", "wc -l < warmed"), warm));
    let heard = [hear(counted.as_ref()), hear(counted.as_ref())].map(|answer| answer.value.unwrap().text);
    assert_eq!(heard, ["1", "1"]);
}

fn ended<T>(answer: Answer<T>) -> &'static str {
    answer.outcome.as_str()
}

#[test]
fn every_fault_of_a_program_has_its_outcome() {
    // Name, a command's script, a worker's script or body.
    let faults = [
        ("none", "echo hold at", ANSWER),
        ("no-words", "true", r#"printf '{"id":%s,"text":""}\n' $id"#),
        ("exit-code", "exit 3", "exit 3"),
        ("signal", "kill -9 $$", "kill -9 $$"),
        ("no-answer", "sleep 60", "sleep 60"),
        ("endless-output", "yes", "yes"),
        ("endless-line", "tr '\\0' x < /dev/zero", "tr '\\0' x < /dev/zero"),
        ("not-utf8", "printf '\\377\\376'", r#"printf '{"id":%s,"text":"\377"}\n' $id"#),
        ("closed-output", "exec >&-; sleep 60", "exec >&-; sleep 60"),
        ("answer-to-another", "echo hold at", r#"printf '{"id":999,"text":"x"}\n'"#),
        ("no-text", "true", r#"printf '{"id":%s}\n' $id"#),
        (
            "says-refused",
            "echo 'no speech model' >&2; exit 1",
            r#"printf '{"id":%s,"outcome":"refused","detail":"no"}\n' $id"#,
        ),
    ];
    let fault = |(name, command, body): (&str, &str, &str)| {
        // What never ends must end by its size; what never comes, by the time limit.
        let limits = json!({"limits": {"total_s": if name.starts_with("endless") { 300.0 } else { 3.0 }}});
        let command =
            engine(with(shell("command", "hear", command), with(json!({"stdin": "audio"}), limits.clone())));
        let (worker, command) =
            (ended(hear(engine(with(worker(body), limits)).as_ref())), ended(hear(command.as_ref())));
        let command = if ["answer-to-another", "no-text"].contains(&name) { "–" } else { command };
        format!("| {name} | {command} | {worker} |\n")
    };
    let starts = [
        ("never-ready", "sleep 60"),
        ("dies-at-start", "exit 1"),
        ("another-version", "echo '{\"ready\":2}'; sleep 60"),
    ];
    let start = |(name, script): (&str, &str)| {
        let worker = engine(with(shell("worker", "hear", script), json!({"ready_s": 3.0})));
        format!("| {name} | – | {} |\n", ended(hear(worker.as_ref())))
    };
    let waits = |name: &str| ["no-answer", "closed-output", "answer-to-another"].contains(&name);
    let rows: Vec<String> = std::thread::scope(|scope| {
        // What only waits for a limit waits beside the others.
        let starting: Vec<_> = starts.into_iter().map(|row| scope.spawn(move || start(row))).collect();
        let waiting: Vec<_> =
            faults.into_iter().map(|row| waits(row.0).then(|| scope.spawn(move || fault(row)))).collect();
        let busy: Vec<Option<String>> = faults.into_iter().map(|row| (!waits(row.0)).then(|| fault(row))).collect();
        let rows = busy.into_iter().zip(waiting).filter_map(|(busy, waiting)| busy.or_else(|| waiting?.join().ok()));
        rows.chain(starting.into_iter().filter_map(|row| row.join().ok())).collect()
    });
    let mut table = String::from("| fault | `command` | `worker` |\n|---|---|---|\n") + &rows.concat();
    let absent = |transport: &str| json!({"transport": transport, "task": "hear", "command": ["no-such-program"], "retry": {"attempts": 1}});
    let command = hear(engine(with(absent("command"), json!({"stdin": "audio"}))).as_ref());
    table += &format!("| absent | {} | {} |\n", ended(command), ended(hear(engine(absent("worker")).as_ref())));
    kept("faults of a program", &table);
}

/// A worker that listens: words as the audio grows, the end of speech once, and the words for good at the end.
const LISTENER: &str = r#"
import base64, json, sys
def say(**line): print(json.dumps(line), flush=True)
say(ready=1, name="listener 1")
for line in sys.stdin:
    asked = json.loads(line)
    if asked.get("do") == "listen":
        heard, shown = 0.0, 0
        for line in sys.stdin:
            given = json.loads(line)
            if "over" in given: break
            heard += len(base64.b64decode(given["sound"])) / 2 / asked["rate_hz"]
            if round(heard * 1000) // 100 > shown:
                shown = round(heard * 1000) // 100
                say(id=asked["id"], interim=" ".join(["hold"] * shown))
            if shown == 3: say(id=asked["id"], end_of_speech=True)
        say(id=asked["id"], settled="hold at")
        say(id=asked["id"], settled="pylon six")
        say(id=asked["id"])
    else:
        say(id=asked["id"], text="whole")
"#;

#[test]
fn a_worker_listens_live_and_is_paced() {
    let config = json!({"transport": "worker", "task": "hear", "live": true, "command": ["python3", "-c", LISTENER]});
    let engine = engine(config);
    assert!(engine.takes_live());
    assert_eq!(hear(engine.as_ref()).value.unwrap().text, "whole", "it hears whole clips as well");
    let (settings, stop) = (fonex_engines::Settings::new(), fonex_engines::StopFlag::default());
    let form = fonex_engines::Form { voice: "", model: "", settings: &settings };
    let audio = fonex_core::audio::Audio { rate_hz: 16_000, samples: vec![0.1; 8_000] };
    let asked = fonex_engines::HearRequest { clip_id: "c", lang: None, audio: &audio, form, stop: &stop, live: None };
    let live = |pace: fonex_engines::Pace| {
        fonex_engines::hear_by(fonex_engines::Delivery::Live(pace), engine.as_ref(), &asked)
    };
    let paced = live(fonex_engines::Pace { frame_ms: 50.0, ..Default::default() });
    assert_eq!(paced.value.unwrap().text, "hold at pylon six", "{:?}", paced.detail);
    let log = paced.measured.traffic.live.unwrap();
    let count = |what| log.events.iter().filter(|event| event.what == what).count();
    use fonex_core::latency::LiveWhat;
    assert_eq!((count(LiveWhat::Interim), count(LiveWhat::Final)), (5, 2));
    assert!(count(LiveWhat::EndOfSpeech) > 0);
    assert!(paced.measured.took_ms.unwrap() >= 500.0, "half a second takes half a second");
    // A tenth of a second at most, of which nothing is ever heard: the wait ends it.
    let silent = LISTENER.replace("id=asked[\"id\"], interim=", "noise=");
    let config = json!({"transport": "worker", "task": "hear", "live": true, "command": ["python3", "-c", silent]});
    let engine = crate::util::engine(config);
    let pace = fonex_engines::Pace { wait_s: Some(0.2), ..Default::default() };
    let late = fonex_engines::hear_by(fonex_engines::Delivery::Live(pace), engine.as_ref(), &asked);
    assert_eq!(late.outcome, Outcome::Late, "{:?}", late.detail);
}

#[test]
fn a_hostile_listener_ends_as_it_should_and_in_bounded_time() {
    use fonex_core::latency::LiveWhat;
    let finals = "say(id=asked[\"id\"], settled=\"hold at\")\n        say(id=asked[\"id\"], settled=\"pylon six\")\n";
    assert!(LISTENER.contains(finals));
    let end = "        say(id=asked[\"id\"])\n";
    let (settings, stop) = (fonex_engines::Settings::new(), fonex_engines::StopFlag::default());
    let form = fonex_engines::Form { voice: "", model: "", settings: &settings };
    let audio = fonex_core::audio::Audio { rate_hz: 16_000, samples: vec![0.1; 8_000] };
    let listen = |script: &str| {
        let config = json!({"transport": "worker", "task": "hear", "live": true, "command": ["python3", "-c", script],
                            "limits": {"total_s": 2.0}, "retry": {"attempts": 1}});
        let engine = engine(config);
        let asked =
            fonex_engines::HearRequest { clip_id: "c", lang: None, audio: &audio, form, stop: &stop, live: None };
        let pace = fonex_engines::Pace { speed: 5.0, ..Default::default() };
        fonex_engines::hear_by(fonex_engines::Delivery::Live(pace), engine.as_ref(), &asked)
    };
    let never = listen(&LISTENER.replace(end, "        import time; time.sleep(60)\n"));
    assert_eq!(never.outcome, Outcome::Late, "{:?}", never.detail);
    let log = never.measured.traffic.live.expect("what came before the limit is kept");
    assert!(log.events.iter().any(|event| event.text.contains("pylon six")), "{log:?}");

    assert_eq!(listen(&LISTENER.replace(finals, "pass\n")).outcome, Outcome::Nothing, "no final result, no words");

    let twice = listen(&LISTENER.replace("pylon six", "hold at"));
    assert_eq!(twice.value.unwrap().text, "hold at hold at", "what is said twice is heard twice");

    let gone = listen(&LISTENER.replace("if \"over\" in given: break", "sys.exit(3)"));
    assert_eq!(gone.outcome, Outcome::Broken, "{:?}", gone.detail);

    // The end of speech and the last words first, then what may still change.
    let early = "say(id=asked[\"id\"], end_of_speech=True); say(id=asked[\"id\"], settled=\"all of it\"); say(id=asked[\"id\"], interim=\"late\")\n";
    let disordered = listen(&LISTENER.replace(finals, early));
    assert_eq!(disordered.value.unwrap().text, "all of it");
    let log = disordered.measured.traffic.live.unwrap();
    assert!(log.events.is_sorted_by(|a, b| a.at_ms <= b.at_ms), "events stand as they came");
    assert_eq!(log.events.last().map(|event| event.what), Some(LiveWhat::Interim));
    let clip: fonex_core::Clip = serde_json::from_value(json!({"id": "c", "text": "all of it",
        "words": [{"text": "all of it", "start": 0.1, "end": 0.4}]}))
    .unwrap();
    let profile = fonex_core::text::TextProfile::shipped("neutral").unwrap();
    let measured = fonex_core::latency::measure_live(&profile, &clip, "all of it", &log);
    assert!(measured.shown_ms.iter().chain(&measured.settled_ms).all(|ms| ms.is_finite()));
}
