//! Mutated files and texts over every reader: counts executions, and fails when one panics.
//!
//! `cargo bench -p fonex --bench mutated -- 60` runs for sixty seconds; without a number for ten. What made a reader panic is kept in the
//! folder that is named at the end.
#![allow(clippy::print_stdout, clippy::expect_used, reason = "a program of its own, which tells what it measured")]

use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::panic::{AssertUnwindSafe, catch_unwind, set_hook};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::{Arc, Mutex, OnceLock};
use std::thread;
use std::time::{Duration, Instant};

use fonex_core::accuracy::score_clip;
use fonex_core::audio::{Audio, measure};
use fonex_core::text::{Label, TextProfile};
use fonex_engines::{
    Engine, EngineConfig, Form, HearRequest, Secrets, Settings, StopFlag, Surroundings, build_engine,
};
use fonex_formats::{Place, captions, read_corpus, read_heard, read_mapped};
use fonex_run::read_bench;
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde_json::{Value, json};

/// One kind of reader: files it reads when they are whole, and reading one.
struct Reader {
    name: &'static str,
    ending: &'static str,
    whole: Vec<Vec<u8>>,
    read: fn(&Path, &[u8]),
}

fn shipped(name: &str) -> Vec<u8> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/shipped/");
    fs::read(Path::new(path).join(name)).expect("the demo's files are there")
}

fn tone() -> Audio {
    Audio { rate_hz: 8_000, samples: (0..4_000).map(|i| (i as f32 * 0.3).sin() * 0.4).collect() }
}

fn readers() -> Vec<Reader> {
    let corpus = shipped("corpus.jsonl");
    let few: Vec<u8> = corpus.split(|b| *b == b'\n').take(3).collect::<Vec<_>>().join(&b'\n');
    let heard = r#"{"id":"a","text":"hold at pylon 6","words":[{"text":"hold","start":0.1,"end":0.5,"confidence":0.9}],"took_ms":12.5,"alternatives":[{"text":"hold","confidence":0.1}]}"#;
    let table = "id,audio,text,lang,tags.channel\na,a.wav,\"Hold, at {six|6}.\",en,radio\nb,b.wav,Stop.,de,phone\n";
    let srt =
        "1\n00:00:01,500 --> 00:00:03,000\n<i>Hold</i> at\npylon six\n\n2\n00:00:03,000 --> 00:00:04,250\nStop\n\n";
    let vtt = "WEBVTT\n\nNOTE x\n\nid\n00:01.000 --> 00:03.000 align:start\n<v Ann>Hold <00:01.500><c.loud>at</c> pylon &amp; six\n\n";
    let texts = [
        "Hold at {pylon six|pylon 6}, at half past seven or 7:30 p.m. for $5.99 and 2 1/2 km; he'd gone",
        "Um 7.30 Uhr am 3.10. für 2½ € nach St. Pölten, Ludwig XIV. und z. B. 100 km/h",
        "À 7 h 30 moins le quart, le 1er mai, 2,5 M€, XXe siècle, n° 5 — d'accord",
        "A las 7:30, 3 mm, 1.er piso, 2.ª vez, EE. UU., p. ej. ½ hora 🇩🇪👩‍🚀 مرحبا",
    ];
    let texts: Vec<Vec<u8>> = texts.map(|text| text.as_bytes().to_vec()).into();
    let flac = fonex_formats::audio::encode_flac(&tone()).expect("it has samples");
    let wav = fonex_formats::audio::encode_wav(&tone()).expect("it has samples");
    let profile = b"name = \"own\"\nsteps = [\"markers\", \"case\", { drop = [\"uh\"] }, { replace = { \"a\" = \"b\" } }, { numbers = \"en\" }, { pattern = { find = 'a+', with = \"b\" } }]\n";
    let reader = |name, ending, whole, read| Reader { name, ending, whole, read };
    vec![
        reader("corpora as JSON Lines", "jsonl", vec![few], |path, _| drop(read_corpus(path))),
        reader("corpora as tables", "csv", vec![table.into()], |path, _| {
            drop(read_corpus(path));
            drop(read_mapped(path, &[("text".to_owned(), "text".to_owned())].into()));
        }),
        reader("results", "jsonl", vec![heard.into()], |path, _| drop(read_heard(path))),
        reader("captions", "srt", vec![srt.into(), vtt.into()], |path, bytes| {
            if let Ok(cues) = captions::parse(&String::from_utf8_lossy(bytes), path) {
                cues.iter().for_each(|cue| drop(cue.timed_words()));
            }
        }),
        reader("bench files", "toml", vec![shipped("fonex.toml"), shipped("services.toml")], |path, _| {
            drop(read_bench(path, &[]));
        }),
        reader("text profiles", "toml", vec![profile.to_vec()], |path, _| {
            let (folder, name) =
                (path.parent().expect("it is in a folder"), path.file_name().expect("it has a name"));
            let place = Place::default();
            if let Ok(profile) = fonex_run::read_profile(&name.to_string_lossy(), folder, place) {
                drop(profile.tokens("Uh, a hundred and five aaaa cabins at 7:30"));
            }
        }),
        reader("sound", "bin", vec![flac, wav, shipped("audio/help-001.flac")], |path, _| {
            if let Ok(decoded) = fonex_formats::audio::read_audio(path)
                && decoded.audio.samples.len() < 1 << 20
            {
                let _ = measure(&decoded.audio);
            }
        }),
        reader("answers of a service", "json", vec![ANSWER.into()], |_, bytes| {
            static ANSWERS: OnceLock<Answers> = OnceLock::new();
            ANSWERS.get_or_init(Answers::start).read(bytes);
        }),
        reader("labels, texts and scores", "txt", texts, |_, bytes| {
            let text = String::from_utf8_lossy(bytes);
            static PROFILES: OnceLock<Vec<TextProfile>> = OnceLock::new();
            let shipped = |name| TextProfile::shipped(name).expect("it ships");
            for profile in PROFILES.get_or_init(|| TextProfile::SHIPPED.map(shipped).into()) {
                drop(profile.tokens(&text));
                if let Ok(label) = Label::parse(&text) {
                    drop(score_clip(profile, &label, &text));
                    drop(score_clip(profile, &label, "hold at 7:30 pylon six"));
                }
            }
        }),
    ]
}

/// A service that answers with what it was given last, and an engine that asks it.
struct Answers {
    engine: Box<dyn Engine>,
    answer: Arc<Mutex<Vec<u8>>>,
}

impl Answers {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("there is a port");
        let address = listener.local_addr().expect("it has one");
        let answer = Arc::new(Mutex::new(Vec::<u8>::new()));
        let given = Arc::clone(&answer);
        thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let mut request = [0; 4096];
                // A client that hangs up is asked by the next.
                while stream.read(&mut request).is_ok_and(|read| read > 0) {
                    let body = given.lock().expect("nobody panics while it is held").clone();
                    let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", body.len());
                    if stream.write_all(&[head.as_bytes(), &body].concat()).is_err() {
                        break;
                    }
                }
            }
        });
        let result = json!({"text": "$.segments[*].text", "words": "$.segments[*].words[*]", "word": {"text": "/w", "start": "/from", "end": "/to", "confidence": "/conf", "unit": "ms"}});
        let table = json!({"transport": "http", "task": "hear", "request": {"url": format!("http://{address}/"), "body": "{audio}"}, "result": result});
        let Value::Object(table) = table else { unreachable!("it is an object") };
        let folder = std::env::temp_dir();
        let config = EngineConfig::read("e", table, &Place::default(), "engine.e", &folder).expect("it is whole");
        let around = Surroundings {
            bench: folder.join("fonex.toml"),
            folder: folder.clone(),
            scratch: folder.clone(),
            labels: Arc::default(),
            seed: 1,
            secrets: Secrets::read(&folder).expect("there are none"),
            pace: None,
        };
        Self { engine: build_engine(&config, &around).expect("nothing is asked yet"), answer }
    }

    fn read(&self, bytes: &[u8]) {
        *self.answer.lock().expect("nobody panics while it is held") = bytes.to_vec();
        let (settings, stop, audio) = (Settings::new(), StopFlag::default(), tone());
        let form = Form { voice: "", model: "", settings: &settings };
        let request = HearRequest { clip_id: "c", lang: None, audio: &audio, form, stop: &stop, live: None };
        drop(self.engine.hear(&request));
    }
}

const ANSWER: &str = r#"{"segments":[{"text":"hold at","words":[{"w":"hold","from":120,"to":"0.4s","conf":0.9},{"w":"at","from":400,"to":510,"conf":null}]},{"text":"pylon six","words":[]}]}"#;

/// What a hostile writer would put in.
const PIECES: [&str; 30] = [
    "1e308",
    "-1e308",
    "1e400",
    "NaN",
    "inf",
    "-0",
    "99999999999999999999",
    "18446744073709551615",
    "0.1e-400",
    "null",
    "\"\"",
    "{}",
    "[]",
    "{",
    "}",
    "[[[[[[[[",
    "\\u0000",
    "\u{0}",
    "\u{feff}",
    "\u{202e}",
    "é",
    "\u{301}",
    "👩‍🚀",
    "\r\n",
    "\t",
    ",",
    "|",
    "-->",
    "é{|}",
    "99999:59:59,999",
];

/// Some changes to a whole file, or a mixture of two.
fn mutated(whole: &[Vec<u8>], random: &mut Pcg64Mcg) -> Vec<u8> {
    let mut bytes = whole[random.random_range(0..whole.len())].clone();
    for _ in 0..random.random_range(1..6) {
        let at = random.random_range(0..=bytes.len());
        match random.random_range(0..9) {
            0 if at < bytes.len() => bytes[at] ^= 1 << random.random_range(0..8),
            1 if at < bytes.len() => bytes[at] = random.random(),
            2 => bytes.truncate(at),
            3 | 4 => drop(bytes.splice(at..at, PIECES[random.random_range(0..PIECES.len())].bytes())),
            5 => {
                // Over what stands there, so that a number becomes another.
                let piece = PIECES[random.random_range(0..PIECES.len())];
                let end = bytes.len().min(at + random.random_range(0..12));
                drop(bytes.splice(at..end, piece.bytes()));
            }
            6 => {
                let end = bytes.len().min(at + random.random_range(0..64));
                let part = bytes[at..end].to_vec();
                for _ in 0..random.random_range(1..4) {
                    drop(bytes.splice(at..at, part.iter().copied()));
                }
            }
            7 => {
                let end = bytes.len().min(at + random.random_range(0..64));
                drop(bytes.drain(at..end));
            }
            _ => {
                let other = &whole[random.random_range(0..whole.len())];
                bytes.truncate(at);
                bytes.extend(&other[random.random_range(0..=other.len())..]);
            }
        }
    }
    bytes
}

fn main() -> ExitCode {
    let seconds = std::env::args().filter_map(|argument| argument.parse().ok()).next().unwrap_or(10.0_f64);
    // In memory where there is such a place: a disk would take most of the time.
    let memory = Path::new("/dev/shm");
    let place = if memory.is_dir() { memory.to_owned() } else { std::env::temp_dir() };
    let folder: PathBuf = tempfile::tempdir_in(place).expect("there is room").keep();
    // Once each: what a reader says where, with the file that made it.
    set_hook(Box::new(|panic| {
        static TOLD: Mutex<Vec<String>> = Mutex::new(Vec::new());
        let place = panic.location().map_or_else(String::new, ToString::to_string);
        let mut told = TOLD.lock().expect("nobody panics while it is held");
        if !told.contains(&place) {
            println!("{panic}");
            told.push(place);
        }
    }));
    let readers = readers();
    let each = fonex_core::latency::span(seconds / readers.len() as f64);
    let (mut all, mut panics) = (0, 0);
    println!("{:<26} {:>12} {:>7} {:>12}", "reader", "executions", "panics", "slowest");
    for (number, reader) in readers.iter().enumerate() {
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let mut random = Pcg64Mcg::seed_from_u64(number as u64 ^ since.as_nanos() as u64);
        let path = folder.join(format!("file.{}", reader.ending));
        let (started, mut executions, mut own, mut slowest) = (Instant::now(), 0_u64, 0, Duration::ZERO);
        while started.elapsed() < each {
            let bytes = mutated(&reader.whole, &mut random);
            fs::write(&path, &bytes).expect("there is room");
            let begun = Instant::now();
            if catch_unwind(AssertUnwindSafe(|| (reader.read)(&path, &bytes))).is_err() {
                own += 1;
                fs::write(folder.join(format!("panic-{number}-{own}")), &bytes).expect("there is room");
            }
            slowest = slowest.max(begun.elapsed());
            executions += 1;
        }
        println!("{:<26} {executions:>12} {own:>7} {:>9.0} ms", reader.name, slowest.as_secs_f64() * 1e3);
        (all, panics) = (all + executions, panics + own);
    }
    println!("{all} executions, {panics} panics; {}", folder.display());
    if panics == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
