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
    folder.fonex(&["run", "voices"]).expect(3).prints(&["Scorecard", "WER by ear/near", "Voices as heard"]);
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
    out.prints(&["WER by ear/near", "WER by ear/far", "natural recordings", "ear/far in run 1"]);
    let csv = folder.fonex(&["show", "2", "--format", "csv", "--measure", "wer"]).expect(0).out;
    assert!(csv.contains("osier/clear by ear/far,all"), "{csv}");
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
