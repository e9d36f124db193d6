//! Engines that misbehave: every fault ends in the right outcome, and nothing else suffers.

use serde_json::Value;

use crate::util::{Folder, corpus, program_is_there};

/// A shell script as a recogniser, how the trial must end, and what must be said.
const FAULTS: [(&str, &str, &str); 11] = [
    ("echo hold at pylon six", "done", ""),
    ("true", "nothing", ""),
    ("printf '  \\n'", "nothing", ""),
    ("echo no model >&2; exit 3", "broken", "exit code 3; its output: no model"),
    ("kill -9 $$", "broken", "signal 9"),
    ("sleep 300 & sleep 300", "late", "time limit of 0.4 s"),
    ("yes", "broken", "wrote more than"),
    ("printf '\\377\\376'", "broken", "not UTF-8 at byte 1"),
    ("yes error | head -c 3000000 >&2; exit 1", "broken", "its output: error error"),
    ("cat > /dev/null; echo held", "done", ""),
    ("exec 0<&-; echo closed", "done", ""),
];

fn bench(engines: &[(String, String)]) -> String {
    let names: Vec<String> = engines.iter().map(|(name, _)| format!("\"{name}\"")).collect();
    let tables: String = engines.iter().map(|(name, body)| format!("[engine.{name}]\n{body}\n")).collect();
    format!("corpus = \"corpus.jsonl\"\n{tables}[plan.p]\nengines = [{}]\nconcurrency = 2\n", names.join(", "))
}

fn outcomes(view: &Value) -> Vec<String> {
    let variants = view["variants"].as_array().unwrap().iter();
    variants.map(|v| v["outcomes"][0]["outcome"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn every_fault_has_its_outcome() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    let mut engines: Vec<(String, String)> = FAULTS
        .iter()
        .enumerate()
        .map(|(i, (script, _, _))| {
            let command = format!("transport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\ncommand = [\"sh\", \"-c\", '''{script}''']");
            (format!("e{i}"), format!("{command}\nlimits.total_s = {}", if script.contains("300") { 0.4 } else { 30.0 }))
        })
        .collect();
    let absent = "transport = \"command\"\ntask = \"hear\"\ncommand = [\"no-such-program\", \"{audio}\"]";
    engines.push(("gone".into(), absent.into()));
    folder.write("fonex.toml", bench(&engines));
    let done = folder.fonex(&["run", "--format", "json"]).expect(3);
    let view: Value = done.json();
    let mut expected: Vec<&str> = FAULTS.iter().map(|(_, outcome, _)| *outcome).collect();
    expected.push("unreachable");
    assert_eq!(outcomes(&view), expected);

    let page = folder.fonex(&["show", "--all"]).expect(0).out;
    for (script, _, said) in FAULTS {
        assert!(page.contains(said), "{script:?} should say {said:?}:\n{page}");
    }
    assert!(page.contains("cannot start \"no-such-program\": no such file"), "{page}");
    assert!(page.contains("WER with failures as empty 100.0 %"), "{page}");
    let left: Vec<_> =
        std::fs::read_dir(folder.path().join(".fonex")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().contains("scratch")), "temporary files stay: {left:?}");
}

#[test]
fn json_answers_are_addressed_and_faults_in_them_named() {
    let answer = r#"{"r":{"t":"hold at"},"w":[{"x":"hold","from":0.5,"to":0.9,"p":0.8}]}"#;
    let engine = |script: &str, text: &str| {
        format!(
            "transport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\ncommand = [\"sh\", \"-c\", '''echo '{script}' ''']\n\
             result = {{ as = \"json\", text = \"{text}\", words = \"/w\", word = {{ text = \"/x\", start = \"/from\", end = \"/to\", confidence = \"/p\" }} }}"
        )
    };
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    let engines = [
        ("good".to_owned(), engine(answer, "/r/t")),
        ("wrong".to_owned(), engine(answer, "/r/text")),
        ("cut".to_owned(), engine(&answer[..20], "/r/t")),
    ];
    folder.write("fonex.toml", bench(&engines));
    let tried: Value = folder.fonex(&["try", "good", "a", "--format", "json"]).expect(0).json();
    assert_eq!(
        tried["heard"]["words"][0],
        serde_json::json!({"text": "hold", "start": 0.5, "end": 0.9, "confidence": 0.8})
    );
    assert_eq!((&tried["outcome"], &tried["words"]["deleted"]), (&"done".into(), &2.into()));
    assert!(tried["cpu_s"].is_number() && tried["peak_memory_kib"].as_u64().unwrap() > 100);
    folder.fonex(&["try", "wrong", "a"]).expect(3).prints(&["broken", "nothing at /r/text"]);
    folder.fonex(&["try", "cut", "a"]).expect(3).prints(&["broken", "not JSON"]);
    folder.fonex(&["try", "good", "b"]).expect(2).says(&["neither a clip nor a file"]);
    folder.fonex(&["try", "goood", "a"]).expect(2).says(&["write \"good\""]);
}

#[test]
fn synthesisers_answer_by_file_or_by_output() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold {um|} at pylon.", "radio"), ("silent", "", "radio")]);
    let engine = |script: &str| {
        format!(
            "transport = \"command\"\ntask = \"speak\"\ncommand = [\"sh\", \"-c\", '''{script}''', \"-\", \"{{text}}\", \"{{output}}\"]"
        )
    };
    let piped = "transport = \"command\"\ntask = \"speak\"\nstdin = \"text\"\ncommand = [\"sh\", \"-c\", \"cat > said.txt; cat audio/any.wav\"]";
    let engines = [
        ("file".to_owned(), engine("cp audio/any.wav \"$2\"")),
        ("none".to_owned(), engine("true")),
        ("noise".to_owned(), engine("echo not audio > \"$2\"")),
        ("piped".to_owned(), piped.to_owned()),
    ];
    folder.write("fonex.toml", bench(&engines));
    let done = folder.fonex(&["run", "--format", "json"]).expect(3);
    let view: Value = done.json();
    assert_eq!(outcomes(&view), ["done", "refused", "refused", "done"]);
    assert_eq!(view["variants"][0]["measures"]["pace"]["clips"], 1);
    assert_eq!(folder.read("said.txt"), "Hold um at pylon.");
    folder.fonex(&["show"]).expect(0).prints(&["nothing to speak"]);
    folder.fonex(&["try", "none", "x"]).expect(3).prints(&["wrote no output file"]);
    folder.fonex(&["try", "noise", "x"]).expect(3).prints(&["not a supported audio format"]);
    folder.fonex(&["try", "file", "x", "-o", "x.flac"]).expect(0).prints(&["Wrote x.flac"]);
    assert_eq!(
        std::fs::read_dir(folder.path().join(".fonex/audio")).unwrap().count(),
        1,
        "the same sound is kept once"
    );
}

#[test]
fn an_engine_is_given_what_it_declares_and_the_trial_says_so() {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six.", "radio")]);
    // 8 kHz, two sides: the left one silent, the right one a tone.
    let mut bytes = std::fs::read(folder.path().join("audio/any.wav")).unwrap()[..44].to_vec();
    (bytes[22], bytes[32]) = (2, 4);
    bytes[24..28].copy_from_slice(&8_000_u32.to_le_bytes());
    bytes[28..32].copy_from_slice(&32_000_u32.to_le_bytes());
    bytes.extend((0..16_000_i32).flat_map(|i| [[0, 0], (((i % 20) * 1_000) as i16).to_le_bytes()].concat()));
    bytes[4..8].copy_from_slice(&(36 + 64_000_u32).to_le_bytes());
    bytes[40..44].copy_from_slice(&64_000_u32.to_le_bytes());
    folder.write("audio/two.wav", bytes);
    let clip =
        |id: &str| format!("{{\"id\":\"{id}\",\"audio\":\"audio/two.wav\",\"side\":\"{id}\",\"text\":\"x\"}}\n");
    folder.write("corpus.jsonl", clip("left") + &clip("right"));
    let keep = "cp \"$1\" \"given-$(ls given-* 2>/dev/null | wc -l)\"; echo x";
    let engine = |more: &str| {
        let command = format!("command = [\"sh\", \"-c\", '''{keep}''', \"-\", \"{{audio}}\"]");
        format!("transport = \"command\"\ntask = \"hear\"\n{command}\n{more}")
    };
    let plain = ("plain".to_owned(), engine("audio_rate_hz = 16000\naudio_bits = 24"));
    let flac = ("flac".to_owned(), engine("audio_rate_hz = 8000\naudio_container = \"flac\""));
    folder.write("fonex.toml", bench(&[plain, flac]).replace("concurrency = 2", "concurrency = 1"));
    folder.fonex(&["run"]).expect(0);
    let given: Vec<_> = (0..4)
        .map(|i| fonex_formats::audio::read_audio(&folder.path().join(format!("given-{i}"))).unwrap())
        .collect();
    let peak = |at: usize| given[at].audio.samples.iter().fold(0.0_f32, |peak, s| peak.max(s.abs()));
    assert_eq!((given[0].audio.rate_hz, given[0].kind.as_str(), peak(0)), (16_000, "wave/pcm_s24le", 0.0));
    assert_eq!((given[1].audio.rate_hz, given[1].kind.as_str()), (8_000, "flac/flac"));
    assert!(peak(2) > 0.4, "the right side sounds");
    let database = rusqlite::Connection::open(folder.path().join(".fonex/runs.db")).unwrap();
    let sql = "select prepared from trials where variant = 0 and clip_id = 'right'";
    let prepared: String = database.query_row(sql, [], |row| row.get(0)).unwrap();
    assert_eq!(prepared, "wave/pcm_s16le 8000 Hz, right of 2 channels to wav 16000 Hz 24 bit");
    let caution = "audio sent in different formats: wav 16000 Hz 24 bit and flac 8000 Hz 16 bit";
    folder.fonex(&["compare", "1"]).expect(0).prints(&[caution]);
    folder.write("fonex.toml", bench(&[("f".to_owned(), engine("audio_container = \"flac\"\naudio_bits = 24"))]));
    folder.fonex(&["run"]).expect(2).says(&["flac with 24 bits is not supported"]);
}

/// The one real engine. Where espeak-ng is missing this cannot be tested; CI says it must be there.
#[test]
fn espeak_ng_speaks_by_command_and_by_workers() {
    if !program_is_there("espeak-ng") {
        return;
    }
    let folder = Folder::new();
    corpus(&folder, &[("a", "The doors are closing. Please stand clear.", "desk")]);
    let engine = "transport = \"command\"\ntask = \"speak\"\nstdin = \"text\"\nvoices = [\"en-gb\", \"en-us\"]\nsettings = { speed = 160 }\n\
        command = [\"espeak-ng\", \"-v\", \"{voice}\", \"-s\", \"{settings.speed}\", \"-w\", \"{output}\", \"--stdin\"]\n\
        version_command = [\"espeak-ng\", \"--version\"]";
    let plan = bench(&[("espeak".to_owned(), engine.to_owned())]) + "settings = { speed = [120, 240] }\n";
    folder.write("fonex.toml", plan);
    let view: Value = folder.fonex(&["run", "--format", "json"]).expect(0).json();
    let variants = view["variants"].as_array().unwrap();
    assert_eq!(variants.len(), 4);
    assert!(variants[0]["engine_version"].as_str().unwrap().contains("eSpeak NG"));
    let seconds: Vec<f64> = variants.iter().map(|v| v["audio_s"].as_f64().unwrap()).collect();
    assert!(seconds[0] > 1.4 * seconds[1], "half the speed takes longer: {seconds:?}");

    // The demo's own plan: the same voice by command, behind a worker in Python and behind one in shell.
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/shipped");
    let folder = Folder::new();
    let copied =
        std::process::Command::new("cp").args(["-r", &format!("{demo}/."), "."]).current_dir(folder.path()).status();
    assert!(copied.unwrap().success());
    let view: Value = folder.fonex(&["run", "espeak", "--format", "json"]).expect(0).json();
    let [command, python, shell] = view["variants"].as_array().unwrap().as_slice() else { panic!("three variants") };
    assert_eq!(command["trials"], python["trials"]);
    for worker in [python, shell] {
        assert_eq!(worker["audio_s"], command["audio_s"], "the same words, the same sound");
        assert!(worker["engine_version"].as_str().unwrap().contains("eSpeak NG"));
    }
}
