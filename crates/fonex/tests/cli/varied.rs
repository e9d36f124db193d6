//! What noise and the like cost: varied corpora held against what they came from, in one run and in two.

use fonex_core::audio::Audio;
use fonex_formats::audio::encode_wav;
use serde_json::{Value, json};

use crate::util::Folder;

/// Six clips of a buzzing "voice", and a stand-in that mishears more in noise.
fn bench() -> Folder {
    let folder = Folder::new();
    let mut lines = String::new();
    for at in 0..6 {
        let sample = |i: u32| {
            let (t, loud) = (f64::from(i) / 16_000.0, if i % 8_000 < 5_000 { 0.3 } else { 0.001 });
            (loud * (t * 900.0 * (1.0 + f64::from(at) * 0.05)).sin()) as f32
        };
        let audio = Audio { rate_hz: 16_000, samples: (0..32_000).map(sample).collect() };
        folder.write(&format!("{at}.wav"), encode_wav(&audio).unwrap());
        let text = "hold the cabin at pylon six until the wind is down again and then go on slowly";
        lines += &format!("{}\n", json!({"id": format!("c{at}"), "audio": format!("{at}.wav"), "text": text}));
    }
    folder.write("corpus.jsonl", lines);
    folder.write(
        "fonex.toml",
        "corpus = \"corpus.jsonl\"\n[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\nmodels = [\"brook\", \"river\"]\n\
         behaviour.brook = { start_ms = 0, rtf = 0.0, base_errors = 0.02, errors_per_db = 0.03 }\n\
         behaviour.river = { start_ms = 0, rtf = 0.0, base_errors = 0.02, errors_per_db = 0.0 }\n\
         [plan.all]\nengines = [\"marl\"]\n[plan.harder]\nengines = [\"marl\"]\ncorpus = \"harder/corpus.jsonl\"\n",
    );
    folder
}

fn vary(folder: &Folder, recipes: &[&str]) {
    let recipes: Vec<&str> = recipes.iter().flat_map(|recipe| ["--recipe", recipe]).collect();
    folder.fonex(&[&["corpus", "vary", "corpus.jsonl", "-o", "harder"][..], &recipes].concat()).expect(0);
}

fn rows(found: &Value) -> Vec<(String, String, u64)> {
    let row = |one: &Value| {
        let name = |side: &str| one[side].as_str().unwrap().to_owned();
        (name("first"), name("second"), one["findings"][0]["clips"].as_u64().unwrap())
    };
    found.as_array().unwrap().iter().map(row).collect()
}

#[test]
fn recipes_are_held_against_the_clips_they_came_from() {
    let folder = bench();
    vary(&folder, &["unchanged", "noise=white:0", "noise=white:20", "loss=50", "loss=20"]);
    folder.fonex(&["run", "harder"]).expect(0);
    let found: Value = folder.fonex(&["compare", "1", "--varied", "--format", "json"]).expect(0).json();
    let expected: Vec<_> = ["brook", "river"]
        .iter()
        .flat_map(|model| {
            ["noise=white:0", "noise=white:20", "loss=50", "loss=20"]
                .map(|recipe| (format!("1:marl/{model} unchanged"), format!("1:marl/{model} {recipe}"), 6))
        })
        .collect();
    assert_eq!(rows(&found), expected);
    // The rates, from the slices of the same run.
    let view: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    let slices = view["variants"][0]["slices"].as_array().unwrap();
    let rate = |recipe: &str| {
        let slice = slices.iter().find(|s| s["by"] == "varied" && s["value"] == recipe).unwrap();
        slice["measures"]["wer"]["value"].as_f64().unwrap()
    };
    let finding = &found[0]["findings"][0];
    let close = |key: &str, expected: f64| (finding[key].as_f64().unwrap() - expected).abs() < 1e-9;
    assert!(close("first", rate("unchanged")) && close("second", rate("noise=white:0")), "{finding}");
    assert!(close("difference", rate("noise=white:0") - rate("unchanged")));
    assert!(rate("noise=white:0") > rate("noise=white:20"));

    let done = folder.fonex(&["compare", "1", "--varied", "-o", "robust.svg", "--measure", "cer"]).expect(0);
    done.prints(&["marl/river", "noise=white:20", "CER"]).says(&["not in the chart", "loss=*"]);
    let svg = folder.read("robust.svg");
    assert!(svg.contains("signal-to-noise ratio") && svg.contains("marl/brook"), "{svg}");
    folder.fonex(&["compare", "1", "-o", "x.svg"]).expect(2).says(&["--varied"]);
}

#[test]
fn a_varied_corpus_is_held_against_the_run_of_the_original() {
    let folder = bench();
    vary(&folder, &["noise=white:0"]);
    folder.fonex(&["run", "all", "--label", "plain"]).expect(0);
    folder.fonex(&["run", "harder", "--label", "noisy"]).expect(0);
    let found: Value = folder.fonex(&["compare", "plain", "noisy", "--varied", "--format", "json"]).expect(0).json();
    let names =
        ["brook", "river"].map(|m| (format!("plain:marl/{m} unchanged"), format!("noisy:marl/{m} noise=white:0"), 6));
    assert_eq!(rows(&found), names);
    folder.fonex(&["compare", "noisy", "--varied"]).expect(2).says(&["no unmodified clips", "--recipe unchanged"]);
    folder.fonex(&["compare", "plain", "--varied"]).expect(2).says(&["no clip of these runs was varied"]);
    folder
        .fonex(&["compare", "plain", "noisy", "--varied", "-o", "x.svg"])
        .expect(2)
        .says(&["no parameter of these recipes takes two values"]);
}
