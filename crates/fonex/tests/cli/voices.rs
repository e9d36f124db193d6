//! Voices heard by recognisers: in one run, beside natural recordings, through failures and interruptions.

use serde_json::{Value, json};

use crate::util::Folder;

/// Ten texts; a voice that is clear, one that clips, one that fails every third time; an ear that clipping hurts.
fn world() -> Folder {
    let folder = Folder::new();
    let texts = ["the lower station is closed", "mind the step at pylon nine", "wait for the green light"];
    let lines = (0..10).map(|at| {
        let kind = if at % 2 == 0 { "number" } else { "name" };
        json!({"id": format!("t{at}"), "text": texts[at % 3], "tags": {"kind": kind}}).to_string() + "\n"
    });
    folder.write("corpus.jsonl", lines.collect::<String>());
    folder.write(
        "fonex.toml",
        r#"corpus = "corpus.jsonl"
[engine.ear]
transport = "standin"
task = "hear"
models = ["near", "far"]
behaviour.near = { base_errors = 0.0, errors_per_clipped = 0.5 }
behaviour.far = { base_errors = 0.5 }
[engine.osier]
transport = "standin"
task = "speak"
voices = ["clear", "loud"]
behaviour.loud = { gain_db = 14 }
[engine.lame]
transport = "command"
task = "speak"
command = ["sh", "-c", 'case "$1" in wait*) exit 3;; esac; cp tone.wav "$2"', "-", "{text}", "{output}"]
[plan.voices]
engines = ["osier", "lame"]
heard_by = ["ear/near"]
repeats = 2
"#,
    );
    let tone = fonex_core::audio::Audio {
        rate_hz: 16_000,
        samples: (0..16_000).map(|i| (f64::from(i) * 0.08).sin() as f32 * 0.3).collect(),
    };
    folder.write("tone.wav", fonex_formats::audio::encode_wav(&tone).unwrap());
    folder
}

fn trials(run: &Value, name: &str, outcome: &str) -> u64 {
    let variant = run["variants"].as_array().unwrap().iter().find(|v| v["name"] == name).unwrap();
    let of = variant["outcomes"].as_array().unwrap().iter().find(|o| o["outcome"] == outcome);
    of.map_or(0, |of| of["trials"].as_u64().unwrap())
}

#[test]
fn what_voices_speak_is_heard_in_the_same_run_and_compared() {
    let folder = world();
    folder.fonex(&["run", "voices"]).expect(3).prints(&[
        "osier/clear has the lowest WER, 0.0 %",
        "WER heard",
        "clips in 20 of 20",
    ]);
    folder.fonex(&["show", "--all"]).expect(0).prints(&["Scorecard", "Voices as heard"]);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    let variants = run["variants"].as_array().unwrap();
    let wer = |name: &str| {
        let variant = variants.iter().find(|v| v["name"] == name).unwrap();
        (variant["measures"]["wer"]["value"].as_f64().unwrap(), variant["hears"].as_u64().unwrap())
    };
    assert_eq!(wer("osier/clear by ear/near"), (0.0, 0));
    let (loud, voice) = wer("osier/loud by ear/near");
    assert!(loud > 0.2 && voice == 1, "{loud} {voice}");
    // A recogniser is not asked to hear what was not spoken, and both say so.
    assert_eq!((trials(&run, "lame", "done"), trials(&run, "lame", "broken")), (14, 6));
    assert_eq!((trials(&run, "lame by ear/near", "done"), trials(&run, "lame by ear/near", "refused")), (14, 6));
    folder.fonex(&["show", "1"]).prints(&["nothing to hear: lame ended as broken"]);
    // Voices are held against each other as one recogniser hears them, and not by how long it takes.
    let found: Value = folder.fonex(&["compare", "1", "--format", "json", "--by", "kind"]).expect(0).json();
    let heard: Vec<&Value> = found
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["second"].to_string().contains("osier/loud by"))
        .flat_map(|one| one["findings"].as_array().unwrap())
        .collect();
    assert!(heard.iter().any(|one| one["measure"] == "wer" && one["verdict"] == "worse"), "{found}");
    assert!(heard.iter().any(|one| one["slice"] == "kind=name"), "{found}");
    assert!(heard.iter().all(|one| one["measure"] != "latency_p50"), "{found}");
    folder.fonex(&["report", "1", "-o", "report.html"]).expect(0);
    assert!(folder.read("report.html").contains("Voices as heard"));
}

#[test]
fn every_model_hears_and_errors_on_natural_recordings_stand_beside() {
    let folder = world();
    // The same texts, recorded: what the ear makes of them.
    let recorded: String = folder
        .read("corpus.jsonl")
        .lines()
        .map(|line| {
            let mut clip: Value = serde_json::from_str(line).unwrap();
            clip["audio"] = json!("tone.wav");
            clip.to_string() + "\n"
        })
        .collect();
    folder.write("corpus.jsonl", recorded);
    let natural = "\n[plan.natural]\nengines = [\"ear\"]\nselect = { kind = \"number\" }\n";
    folder.write("fonex.toml", folder.read("fonex.toml") + natural);
    folder.fonex(&["run", "natural"]).expect(0);
    let heard = ["run", "voices", "--heard-by", "ear", "--set", "plan.voices.engines=[\"osier\"]"];
    let out = folder.fonex(&heard).expect(0);
    out.prints(&["WER by ear/near", "WER by ear/far", "recordings", "ear/far in run 1"]);
    let csv = folder.fonex(&["show", "2", "--format", "csv", "--measure", "wer"]).expect(0).out;
    assert!(csv.contains("osier/clear by ear/far,all"), "{csv}");
    // A run made later changes nothing of it, unless it is asked for.
    folder.fonex(&["run", "natural", "--set", "seed=99"]).expect(0);
    let noisier = ["corpus", "vary", "corpus.jsonl", "--recipe", "noise=white:0", "-o", "noisier"];
    folder.fonex(&noisier).expect(0);
    folder.fonex(&["run", "natural", "--set", "plan.natural.corpus=noisier/corpus.jsonl"]).expect(0);
    folder.fonex(&["show", "2"]).expect(0).prints(&["ear/far in run 1"]);
    folder.fonex(&["show", "2", "--recordings", "3"]).expect(0).prints(&["ear/far in run 3"]);
    let varied = folder.fonex(&["show", "2", "--recordings", "4"]).expect(0).out;
    assert!(!varied.contains("natural recordings"), "{varied}");
    folder.fonex(&["report", "2", "--recordings", "3", "-o", "held.html"]).expect(0);
    assert!(folder.read("held.html").replace("&#x2f;", "/").contains("ear/far in run 3"));
    // A dry run counts what would be heard.
    let forecast: Value = folder.fonex(&[&heard[..], &["--dry-run", "--anew", "--format", "json"]].concat()).json();
    let of = forecast.as_array().unwrap().iter().find(|one| one["variant"] == "osier/loud by ear/far").unwrap();
    assert_eq!(of["trials"], 20);
    let seconds = of["used"]["audio_s"].as_f64().unwrap();
    assert!((20.0..80.0).contains(&seconds), "{seconds}");
}

#[test]
fn an_interrupted_run_goes_on_with_what_was_spoken_before() {
    let folder = world();
    // The budget ends between a voice and its ear, again and again.
    let mut least = 0;
    for requests in (7..).step_by(20) {
        let budget = format!("plan.voices.budget.requests={requests}");
        let code = folder.fonex(&["run", "voices", "--set", &budget]).code;
        let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
        let all = |outcome| -> u64 {
            let variants = run["variants"].as_array().unwrap();
            variants.iter().map(|v| trials(&run, v["name"].as_str().unwrap(), outcome)).sum()
        };
        let done = all("done") + all("broken") + all("refused");
        assert!(done >= least, "trials went");
        least = done;
        if run["run"]["state"] == "finished" {
            assert_eq!((done, code), (120, 3));
            assert!(!folder.fonex(&["show", "1"]).out.contains("has not spoken"));
            assert_eq!(folder.fonex(&["runs", "--format", "json"]).json::<Value>().as_array().unwrap().len(), 1);
            return;
        }
    }
}

#[test]
fn what_cannot_hear_is_told_before_anything_is_sent() {
    let folder = world();
    let said = |set: &str| folder.fonex(&["run", "voices", "--set", set]).expect(2).err;
    assert!(said("plan.voices.heard_by=[\"osier\"]").contains("is not a recogniser"));
    assert!(said("plan.voices.heard_by=[\"eer\"]").contains("write \"ear\" if that is meant"));
    assert!(said("plan.voices.heard_by=[\"ear/farr\"]").contains("write \"far\" if that is meant"));
    assert!(said("plan.voices.engines=[\"ear\"]").contains("no voice to be heard"));
    let text = folder.read("fonex.toml")
        + "[engine.old]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"r.jsonl\"\n";
    folder.write("fonex.toml", text);
    folder.write("r.jsonl", "{\"id\":\"t0\",\"text\":\"x\"}\n");
    assert!(said("plan.voices.heard_by=[\"old\"]").contains("results of other audio only"));
}

/// A voice whose takes differ by chance in pitch, about a base that the bench file sets.
fn varying(folder: &Folder) {
    let kinds = |at: usize| ["open", "shut", "late"][at % 3];
    let lines =
        (0..12).map(|at| json!({"id": format!("t{at:02}"), "text": format!("{} {at}", kinds(at))}).to_string());
    folder.write("corpus.jsonl", lines.collect::<Vec<_>>().join("\n"));
    folder.write(
        "fonex.toml",
        r#"corpus = "corpus.jsonl"
[engine.v]
transport = "command"
task = "speak"
command = ["sh", "-c", 'n=$(cat count 2>/dev/null || echo 0); echo $((n + 1)) > count; cp takes/$1-$((n % 5)).wav "$2"', "-", "{voice}{settings.build}", "{output}", "{text}"]
voices = ["low", "high"]
settings = { build = "a" }
[plan.p]
engines = ["v"]
repeats = 2
"#,
    );
    for (name, formants) in [("lowa", (500.0, 1_500.0)), ("lowb", (650.0, 1_800.0)), ("higha", (350.0, 2_200.0))] {
        for take in 0..5 {
            let pitch = 110.0 + 4.0 * f64::from(take);
            let samples = (0..9_600).map(|i| {
                let t = f64::from(i) / 16_000.0;
                let near = |hz: f64, formant: f64| (-((hz - formant) / 180.0_f64).powi(2)).exp();
                let harmonics = (1..20).map(|h| {
                    let hz = pitch * f64::from(h);
                    (near(hz, formants.0) + near(hz, formants.1) + 0.02) * (std::f64::consts::TAU * hz * t).sin()
                });
                (0.1 * harmonics.sum::<f64>()) as f32
            });
            let audio = fonex_core::audio::Audio { rate_hz: 16_000, samples: samples.collect() };
            folder.write(&format!("takes/{name}-{take}.wav"), fonex_formats::audio::encode_wav(&audio).unwrap());
        }
    }
}

#[test]
fn a_voice_that_changed_is_told_and_one_that_did_not_is_not() {
    let folder = Folder::new();
    varying(&folder);
    folder.fonex(&["run", "p", "--label", "one"]).expect(0);
    folder.fonex(&["run", "p", "--label", "two"]).expect(0);
    let build = "engine.v.settings.build=\"b\"";
    folder.fonex(&["run", "p", "--label", "three", "--set", build, "--set", "plan.p.voices=[\"low\"]"]).expect(0);
    let sound = |second: &str| -> Value {
        let found: Value =
            folder.fonex(&["compare", "one:v/low", &format!("{second}:v/low"), "--format", "json"]).expect(0).json();
        found[0]["sound"].clone()
    };
    let (same, other) = (sound("two"), sound("three"));
    assert_ne!(same["verdict"], "changed", "{same}");
    assert!(same["own_db"].as_f64().unwrap() > 0.1, "{same}");
    assert_eq!((&other["verdict"], other["texts"].as_array().unwrap().len()), (&json!("changed"), 12), "{other}");
    assert!(other["interval"][0].as_f64().unwrap() > 0.5, "{other}");
    let page = folder.fonex(&["compare", "one:v/low", "three:v/low"]).expect(0);
    page.prints(&["Sound: changed", "most in t"]);
    // Where measures are named, nothing else is asked.
    assert!(!folder.fonex(&["compare", "one", "two", "--measure", "pace"]).expect(0).out.contains("sound:"));
    // A run without repeats does not know how much a voice varies.
    let once = ["run", "p", "--label", "once", "--set", "plan.p.repeats=1"];
    folder.fonex(&once).expect(0);
    folder.fonex(&[&once[..3], &["again"], &once[4..]].concat()).expect(0);
    folder.fonex(&["compare", "once:v/low", "again:v/low"]).prints(&["repeats = 2"]);
    // The voices of one run, as a table and as a map.
    let found: Value = folder.fonex(&["show", "one", "--likeness", "--format", "json"]).expect(0).json();
    let apart = found["distances_db"][0][1].as_f64().unwrap();
    assert!(apart > 2.0 && found["distances_db"][1][0] == apart && found["distances_db"][0][0] == 0.0, "{found}");
    folder.fonex(&["show", "one", "--likeness", "-o", "map.svg"]).expect(0).prints(&["v/low", "Mel-cepstral"]);
    assert!(folder.read("map.svg").contains("v/high"));
    folder.fonex(&["show", "three", "--likeness"]).expect(2).says(&["no two voices"]);
    // Audio that went away is no figure, and no panic.
    std::fs::remove_dir_all(folder.path().join(".fonex/audio")).unwrap();
    assert!(!folder.fonex(&["compare", "one", "two"]).expect(0).out.contains("sound:"));
    folder.fonex(&["show", "one", "--likeness"]).expect(2);
}

#[test]
fn one_sentence_by_every_voice_heard_and_played() {
    let folder = world();
    let text = "mind the {step}";
    let line = ["try", "osier", text, "--voice", "*", "--heard-by", "ear"];
    let tried = folder.fonex(&line).expect(0);
    tried.prints(&["osier/clear", "osier/loud", "heard by ear/near: 0 errors in 3 words", "Wrote try-loud.wav"]);
    let all: Value = folder.fonex(&[&line[..], &["--format", "json"]].concat()).expect(0).json();
    assert_eq!(all[0]["heard_by"][0]["words"]["correct"], 3, "{all}");
    let player = "player = [\"sh\", \"-c\", 'basename \"$1\" >> played', \"-\"]\n";
    folder.write("fonex.toml", player.to_owned() + &folder.read("fonex.toml"));
    folder.fonex(&["try", "osier", text, "--voice", "loud,clear", "--play"]).expect(0);
    assert_eq!(folder.read("played"), "try-loud.wav\ntry-clear.wav\n");
    folder.fonex(&["try", "osier", text, "--voice", "lud"]).expect(2).says(&["write \"loud\""]);
    folder.fonex(&["try", "osier", text, "--heard-by", "osier"]).expect(2).says(&["is not a recogniser"]);
    folder
        .fonex(&["try", "osier", text, "--play", "--set", "player=[\"no-such-player\"]"])
        .expect(2)
        .says(&["no-such-player"]);
}

#[test]
fn texts_become_a_corpus_with_kinds_and_lengths() {
    let folder = Folder::new();
    let sentence = "The cabin holds at the upper pylon while the wind rises. ";
    let written = format!("A plain line.\n# names\nAsk {{Ingrid}} Vasslund | now.\n#\n{}\n", sentence.repeat(70));
    folder.write("one.txt", &written);
    folder.write("sub/one.txt", "Cabin 14 stops.\n");
    folder
        .fonex(&["corpus", "texts", "one.txt", "sub/one.txt", "--lang", "en", "--tag", "for=test", "-o", "t.jsonl"])
        .expect(0);
    let clips: Vec<Value> = folder.read("t.jsonl").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let ids: Vec<&str> = clips.iter().map(|clip| clip["id"].as_str().unwrap()).collect();
    assert_eq!(ids, ["one-001", "one-002", "one-003", "one-2-001"]);
    assert_eq!((&clips[1]["tags"]["kind"], &clips[3]["tags"]["kind"]), (&json!("names"), &json!("numbers")));
    assert_eq!((&clips[0]["lang"], &clips[0]["tags"]["for"]), (&json!("en"), &json!("test")));
    // Brackets in plain writing are plain.
    folder.fonex(&["corpus", "check", "t.jsonl"]).prints(&["no errors"]);
    assert_eq!(clips[1]["text"], "Ask \\{Ingrid\\} Vasslund | now.");
    let out = folder.fonex(&["corpus", "texts", "one.txt", "--ladder", "2", "--longest", "2000"]).expect(0).out;
    for rung in ["1 word", "2 phrase", "3 sentence", "4 paragraph", "5 page"] {
        let count = out.lines().filter(|line| line.contains(rung)).count();
        assert!((1..=2).contains(&count), "{rung}: {count}");
    }
    assert!(
        out.lines().all(|line| serde_json::from_str::<Value>(line).unwrap()["text"].as_str().unwrap().len() <= 2_000)
    );
    folder.write("empty.txt", " \n# names\n");
    folder.fonex(&["corpus", "texts", "empty.txt"]).expect(2).says(&["holds no text"]);
    folder.write("bytes.txt", b"caf\xe9\n");
    folder.fonex(&["corpus", "texts", "bytes.txt"]).expect(2).says(&["UTF-8"]);
    folder.fonex(&["corpus", "texts", "one.txt", "--tag", "x"]).expect(2).says(&["TAG=VALUE"]);
}
