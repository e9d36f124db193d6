//! What voices are asked and how they do it: markup, planted faults, takes that differ, ranks, recordings beside voices, and input that is hard.

use serde_json::{Value, json};

use crate::util::{Folder, program_is_there};

const TEXT: &str =
    "The cabin holds at the upper station, because the wind is rising. Please remain seated until it moves on.";

/// A bench of stand-in voices, each with a behaviour of its own, that speak one corpus.
fn world(texts: &[(&str, &str)], voices: &[(&str, &str)]) -> Folder {
    let folder = Folder::new();
    let lines = texts.iter().map(|(id, text)| json!({"id": id, "text": text, "lang": "en"}).to_string() + "\n");
    folder.write("corpus.jsonl", lines.collect::<String>());
    let names: Vec<String> = voices.iter().map(|(name, _)| format!("{name:?}")).collect();
    let behaviours: String =
        voices.iter().map(|(name, does)| format!("[engine.osier.behaviour.{name}]\n{does}\n")).collect();
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n[engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\nvoices = [{}]\n{behaviours}\n\
             [plan.voices]\nengines = [\"osier\"]\n",
            names.join(", ")
        ),
    );
    folder
}

fn measure(run: &Value, name: &str, id: &str) -> Option<f64> {
    let variants = run["variants"].as_array().unwrap();
    let variant = variants.iter().find(|variant| variant["name"] == name).unwrap_or_else(|| panic!("no {name}"));
    variant["measures"][id]["value"].as_f64()
}

#[test]
fn markup_is_passed_on_and_checked_in_the_sound() {
    let folder = world(&[], &[("does", ""), ("ignores", "ignores_markup = true")]);
    for (name, inner) in [
        ("break.ssml", "The doors are closing now.<break time=\"800ms\"/> Please stand clear of the gap.".to_owned()),
        ("slow.ssml", format!("<prosody rate=\"slow\">{TEXT}</prosody>")),
        ("high.ssml", format!("<prosody pitch=\"+4st\">{TEXT}</prosody>")),
        ("loud.ssml", format!("<prosody volume=\"-9dB\">{TEXT}</prosody>")),
        ("digits.ssml", "Cabin <say-as interpret-as=\"digits\">471</say-as> is out of service.".to_owned()),
    ] {
        folder.write(
            name,
            format!("<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\">{inner}</speak>\n"),
        );
    }
    let files = ["break.ssml", "slow.ssml", "high.ssml", "loud.ssml", "digits.ssml"];
    folder.fonex(&[&["corpus", "texts"], &files[..], &["--lang", "en", "-o", "corpus.jsonl"]].concat()).expect(0);
    let clips: Vec<Value> =
        folder.read("corpus.jsonl").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(clips.len(), 10, "each with its plain text beside it");
    assert_eq!(
        (&clips[8]["text"], &clips[8]["terms"]),
        (&json!("Cabin 4 7 1 is out of service."), &json!(["4 7 1"]))
    );
    folder.fonex(&["corpus", "check", "corpus.jsonl"]).prints(&["no errors"]);
    folder.fonex(&["run", "voices"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(measure(&run, "osier/does", "markup_followed"), Some(1.0));
    assert_eq!(measure(&run, "osier/ignores", "markup_followed"), Some(0.0));
    let found: Value =
        folder.fonex(&["compare", "1", "--measure", "markup_followed", "--format", "json"]).expect(0).json();
    assert_eq!(found[0]["findings"][0]["difference"], -1.0);
    // Now, by hand.
    let tried = folder.fonex(&["try", "osier", &folder.read("break.ssml"), "--voice", "does"]).expect(0);
    tried.prints(&["1 pause (0.", "level ", "pitch "]);
    folder.fonex(&["try", "osier", "<speak>open", "--voice", "does"]).expect(2).says(&["not well-formed"]);
    // A program gets it whole; plain texts come within a speak element, whatever they hold.
    let program = "[engine.echo]\ntransport = \"command\"\ntask = \"speak\"\nstdin = \"ssml\"\n\
                   command = [\"sh\", \"-c\", 'cat > \"given-$1.xml\"; cp tone.wav \"$2\"', \"-\", \"{clip_id}\", \"{output}\"]\n[plan.echo]\nengines = [\"echo\"]\n";
    folder.write("fonex.toml", folder.read("fonex.toml") + program);
    let tone = fonex_core::audio::Audio { rate_hz: 16_000, samples: vec![0.1; 16_000] };
    folder.write("tone.wav", fonex_formats::audio::encode_wav(&tone).unwrap());
    folder.write(
        "corpus.jsonl",
        folder.read("corpus.jsonl") + &json!({"id": "bare", "text": "A < B & \"C\""}).to_string() + "\n",
    );
    folder.fonex(&["run", "echo"]).expect(0);
    assert_eq!(folder.read("given-slow-001.xml").trim(), folder.read("slow.ssml").trim());
    assert!(folder.read("given-bare.xml").contains(">A &lt; B &amp; &quot;C&quot;</speak>"));
}

#[test]
fn broken_markup_is_told_with_the_clip() {
    let folder = Folder::new();
    let clip = |id: &str, ssml: &str| json!({"id": id, "text": "Mind the gap.", "ssml": ssml}).to_string() + "\n";
    folder.write(
        "corpus.jsonl",
        clip("good", "<speak>Mind the gap.</speak>")
            + &clip("open", "<speak>Mind")
            + &clip("other", "<speak>Mind the step.</speak>"),
    );
    let done = folder.fonex(&["corpus", "check", "corpus.jsonl"]);
    done.prints(&["broken-markup", "open", "markup-text", "other", "2 errors"]);
    folder.write("bad.ssml", "<speak><break/></speak>");
    folder.fonex(&["corpus", "texts", "bad.ssml"]).expect(2).says(&["bad.ssml", "nothing to say"]);
    folder.write("deep.ssml", "<speak>".repeat(50_000));
    folder.fonex(&["corpus", "texts", "deep.ssml"]).expect(2).says(&["deep"]);
    let bomb = "<!DOCTYPE s [<!ENTITY a \"aaaa\"><!ENTITY b \"&a;&a;\">]><speak>&b;</speak>";
    folder.write("bomb.ssml", bomb);
    folder.fonex(&["corpus", "texts", "bomb.ssml"]).expect(2).says(&["bomb.ssml"]);
}

/// Every fault that a stand-in voice can have is found in its voice, and in no voice without it.
#[test]
fn planted_faults_of_voices_are_found_and_no_others() {
    let faults = [
        ("clicks", "clips_with_clicks"),
        ("dropout", "clips_with_dropouts"),
        ("hum", "clips_with_hum"),
        ("cut-end", "clips_cut_off"),
        ("repeat", "clips_with_repeats"),
        ("long-pause", "clips_with_long_pauses"),
        ("skip", "off_length"),
        ("run-on", "off_length"),
    ];
    let texts = [
        ("a", TEXT),
        (
            "b",
            "The last cabin leaves at half past five, and no other follows it. Please be at the station in good time.",
        ),
        ("c", "Snow is falling at the upper station. The red line is closed, because of strong wind on the ridge."),
    ];
    let behaviours: Vec<(String, String)> = faults
        .iter()
        .map(|(fault, _)| (fault.replace('-', "_"), format!("faults = [\"{fault}\"]")))
        .chain([("clean".to_owned(), String::new())])
        .collect();
    let voices: Vec<(&str, &str)> = behaviours.iter().map(|(name, does)| (name.as_str(), does.as_str())).collect();
    let folder = world(&texts, &voices);
    folder.fonex(&["run", "voices"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    for (fault, id) in faults {
        let name = format!("osier/{}", fault.replace('-', "_"));
        // A stretch that comes again is found in 37 of 40 (docs/measures.md).
        let least = if fault == "repeat" { 0.6 } else { 1.0 };
        let found = measure(&run, &name, id);
        assert!(found >= Some(least), "{fault}: {found:?}");
        assert!(measure(&run, "osier/clean", id).unwrap_or(0.0) == 0.0, "{id} of a clean voice");
    }
    assert_eq!(measure(&run, "osier/clean", "faulty_clips"), Some(0.0));
    assert_eq!(measure(&run, "osier/clean", "pauses_in_phrases"), Some(0.0));
    assert_eq!(measure(&run, "osier/clean", "punctuation_paused"), Some(1.0));
}

#[test]
fn voices_are_ranked_by_weights_and_held_against_recordings() {
    let folder = world(
        &[("a", TEXT), ("b", "Mind the gap."), ("c", "The doors are closing.")],
        &[("high", "pitch_hz = 230\nstart_ms = 80"), ("low", "pitch_hz = 100\nfaults = [\"hum\"]")],
    );
    folder.fonex(&["run", "voices", "--label", "one"]).expect(0);
    let rank = |weights: &str| -> Value {
        folder.fonex(&["show", "one", "--rank", weights, "--format", "json"]).expect(0).json()
    };
    assert_eq!(rank("latency_p50=1")[0]["voice"], "osier/low");
    assert_eq!(
        rank("latency_p50=1,faulty_clips=5")[0],
        json!({"voice": "osier/high", "by_weight": 5.0 / 6.0, "on_front": true})
    );
    folder
        .fonex(&["show", "one", "--rank", "latency_p50=1,faulty_clips=5"])
        .expect(0)
        .prints(&["By weight", "faults 5"]);
    for (wrong, says) in [
        ("wer", "MEASURE=WEIGHT"),
        ("wre=1", "no measure"),
        ("pitch_hz=1", "neither better"),
        ("wer=-1", "above 0"),
        ("wer=1", "no voice of run"),
    ] {
        folder.fonex(&["show", "one", "--rank", wrong]).expect(2).says(&[says]);
    }
    folder.fonex(&["show", "one", "--likeness"]).expect(0);
    // What the high voice spoke, as recordings of the corpus.
    let audio: Vec<_> =
        std::fs::read_dir(folder.path().join(".fonex/audio")).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert_eq!(audio.len(), 6);
    folder.fonex(&["try", "osier", TEXT, "--voice", "high", "-o", "recorded.wav", "--lang", "en"]).expect(0);
    let line = json!({"id": "a", "text": TEXT, "lang": "en", "audio": "recorded.wav"}).to_string() + "\n";
    folder.write("corpus.jsonl", line);
    folder.fonex(&["run", "voices", "--label", "two"]).expect(0);
    let found: Value = folder.fonex(&["show", "two", "--likeness", "--format", "json"]).expect(0).json();
    assert_eq!(found["voices"], json!(["osier/high", "osier/low", "recordings"]));
    let apart = |at: usize| found["distances_db"][2][at].as_f64().unwrap();
    assert!(apart(0) < 0.5 && apart(1) > 1.0, "{found}");
    let ear = "[engine.ear]\ntransport = \"standin\"\ntask = \"hear\"\n";
    folder.write("fonex.toml", folder.read("fonex.toml") + ear);
    folder.fonex(&["run", "voices", "--heard-by", "ear"]).expect(0);
    folder.fonex(&["report", "last", "-o", "r.html"]).expect(0);
    assert!(
        folder.read("r.html").contains("dB from recordings"),
        "the scorecard says how near a voice is to a person"
    );
}

#[test]
fn another_rate_than_asked_for_is_a_fault_and_takes_that_differ_are_told() {
    let folder = world(&[("a", TEXT), ("b", "Mind the gap, please, and hold on.")], &[("one", "")]);
    let asked = folder.read("fonex.toml").replace("task = \"speak\"", "task = \"speak\"\naudio_rate_hz = 24000");
    folder.write("fonex.toml", asked);
    folder.fonex(&["run", "voices"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(measure(&run, "osier/one", "clips_of_other_form"), Some(1.0));
    assert_eq!(measure(&run, "osier/one", "pace_spread"), None, "nothing was repeated");
    folder
        .fonex(&["try", "osier", "Mind the gap."])
        .expect(0)
        .prints(&["22050 samples a second, which is not what was asked for"]);
    folder
        .fonex(&["run", "voices", "--set", "engine.osier.audio_rate_hz=22050", "--set", "plan.voices.repeats=3"])
        .expect(0);
    let run: Value = folder.fonex(&["show", "2", "--format", "json"]).expect(0).json();
    assert_eq!(measure(&run, "osier/one", "clips_of_other_form"), Some(0.0));
    assert!(measure(&run, "osier/one", "pace_spread").unwrap() < 1e-9, "a stand-in speaks alike each time");
}

/// Settings move a stand-in voice as they would a real one: the figures along them are charts of the report.
#[test]
fn a_sweep_over_settings_shows_in_the_figures_and_is_charted() {
    let folder = world(
        &[("a", TEXT), ("b", "The doors are closing. Please stand clear of the gap.")],
        &[("one", "pitch_hz = 150")],
    );
    let sweep = "[engine.osier.settings]\npace = 1.0\npitch = 0\n[plan.sweep]\nengines = [\"osier\"]\nsettings.pace = { from = 0.5, to = 1.5, step = 0.5 }\nsettings.pitch = [-4, 0, 4]\n";
    folder.write("fonex.toml", folder.read("fonex.toml") + sweep);
    folder.fonex(&["run", "sweep"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(run["variants"].as_array().unwrap().len(), 9);
    let of = |pace: &str, pitch: &str, id: &str| {
        let variants = run["variants"].as_array().unwrap();
        let is = |variant: &&Value| variant["settings"]["pace"] == pace && variant["settings"]["pitch"] == pitch;
        variants.iter().find(is).unwrap()["measures"][id]["value"].as_f64().unwrap()
    };
    assert!((of("1.5", "0", "pace") / of("0.5", "0", "pace") - 3.0).abs() < 0.1);
    assert!((12.0 * (of("1.0", "4", "pitch_hz") / of("1.0", "0", "pitch_hz")).log2() - 4.0).abs() < 0.4);
    folder.fonex(&["report", "1", "-o", "r.html"]).expect(0);
    assert!(folder.read("r.html").contains("pace"), "charts along the pace");
}

/// Thousands of voices, a text of half an hour, a text with nothing to say, a voice that vanished, a setting that cannot be.
#[test]
fn hard_input_is_measured_or_told() {
    let page = format!("{TEXT} ").repeat(90);
    let folder = world(&[("long", page.trim_end()), ("signs", "… — ?!")], &[("one", "rtf = 0.0\nstart_ms = 0")]);
    folder.fonex(&["run", "voices"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    let seconds = measure(&run, "osier/one", "pace").unwrap();
    assert!((100.0..260.0).contains(&seconds), "{seconds} words a minute");
    let spoken = folder.fonex(&["show", "1", "--clip", "long"]).expect(0).out;
    assert!(spoken.contains("long"), "{spoken}");
    // A catalogue of thousands.
    let many: String = (0..5_000)
        .map(|at| {
            json!({"id": format!("v{at}"), "languages": [if at % 2 == 0 { "en" } else { "de" }]}).to_string() + "\n"
        })
        .collect();
    folder.write("many.jsonl", many);
    folder.write(
        "many.toml",
        "corpus = \"corpus.jsonl\"\n[engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\nvoice_file = \"many.jsonl\"\n[plan.all]\nengines = [\"osier\"]\n\
         [plan.gone]\nengines = [\"osier\"]\nvoices = [\"v1\", \"v77777\"]\n",
    );
    let listed =
        folder.fonex(&["engine", "voices", "osier", "--bench", "many.toml", "--format", "csv"]).expect(0).out;
    assert_eq!(listed.lines().count(), 5_001);
    folder
        .fonex(&["run", "all", "--bench", "many.toml", "--dry-run", "--format", "csv"])
        .expect(0)
        .prints(&["osier/v4999"]);
    folder.fonex(&["run", "gone", "--bench", "many.toml"]).expect(2).says(&["v77777"]);
    folder
        .fonex(&["run", "voices", "--set", "engine.osier.behaviour.one.pitch_hz=1e9"])
        .expect(2)
        .says(&["pitch_hz", "up to a million"]);
    folder
        .fonex(&["run", "voices", "--set", "engine.osier.behaviour.one.faults=[\"click\"]"])
        .expect(2)
        .says(&["click"]);
}

/// What `espeak-ng` makes of markup, where it is installed; without its option for markup it gets the words alone.
#[test]
fn a_real_synthesiser_follows_markup_where_it_is_told_to() {
    if !program_is_there("espeak-ng") {
        return;
    }
    let folder = Folder::new();
    let speak = |inner: &str| {
        format!(
            "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en\">{inner}</speak>"
        )
    };
    for (name, attribute) in [
        ("slow", "rate=\"slow\""),
        ("fast", "rate=\"fast\""),
        ("loud", "volume=\"loud\""),
        ("soft", "volume=\"soft\""),
    ] {
        folder.write(&format!("{name}.ssml"), speak(&format!("<prosody {attribute}>{TEXT}</prosody>")));
    }
    folder.write(
        "rest.ssml",
        speak("The doors are closing now <break time=\"900ms\"/> please stand clear of the gap."),
    );
    let files = ["slow.ssml", "fast.ssml", "loud.ssml", "soft.ssml", "rest.ssml"];
    folder.fonex(&[&["corpus", "texts"], &files[..], &["--lang", "en", "-o", "corpus.jsonl"]].concat()).expect(0);
    let engine = |name: &str, options: &str, stdin: &str| {
        format!(
            "[engine.{name}]\ntransport = \"command\"\ntask = \"speak\"\nstdin = \"{stdin}\"\nvoices = [\"en-gb\"]\n\
             command = [\"espeak-ng\", {options}\"-v\", \"{{voice}}\", \"-w\", \"{{output}}\", \"--stdin\"]\n"
        )
    };
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n{}{}[plan.both]\nengines = [\"reads\", \"words\"]\n",
            engine("reads", "\"-m\", ", "ssml"),
            engine("words", "", "text")
        ),
    );
    folder.fonex(&["run", "both"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    assert_eq!(measure(&run, "reads/en-gb", "markup_followed"), Some(1.0));
    assert_eq!(measure(&run, "words/en-gb", "markup_followed"), Some(0.0));
    assert_eq!(measure(&run, "words/en-gb", "off_length"), Some(0.0));
}

/// Sound in another container than asked for is measured, and said to be so; what nobody asked for may be anything.
#[test]
fn another_container_than_asked_for_is_a_fault() {
    let folder = Folder::new();
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"Mind the gap.\"}\n");
    let hiss = fonex_core::audio::noise(fonex_core::audio::NoiseColour::White, 16_000, 16_000, 1);
    let audio = fonex_core::audio::Audio { rate_hz: 16_000, samples: hiss.iter().map(|s| s * 0.05).collect() };
    folder.write("sound.flac", fonex_formats::audio::encode_flac(&audio).unwrap());
    let engine = |name: &str, asked: &str| {
        format!(
            "[engine.{name}]\ntransport = \"command\"\ntask = \"speak\"\n\
             command = [\"sh\", \"-c\", 'cp sound.flac \"$1\"', \"-\", \"{{output}}\", \"{{text}}\"]\n{asked}\n"
        )
    };
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n{}{}{}[plan.p]\nengines = [\"wav\", \"flac\", \"any\"]\n",
            engine("wav", "audio_container = \"wav\""),
            engine("flac", "audio_container = \"flac\""),
            engine("any", "")
        ),
    );
    folder.fonex(&["run", "p"]).expect(0);
    let run: Value = folder.fonex(&["show", "1", "--format", "json"]).expect(0).json();
    for (name, share) in [("wav", 1.0), ("flac", 0.0), ("any", 0.0)] {
        assert_eq!(measure(&run, name, "clips_of_other_form"), Some(share), "{name}");
    }
    folder.fonex(&["try", "wav", "Mind the gap."]).expect(0).prints(&["another container than was asked for"]);
}

/// The pitch that `espeak-ng` is set to, and the pace, come out in order.
#[test]
fn the_settings_of_a_real_synthesiser_are_heard() {
    if !program_is_there("espeak-ng") {
        return;
    }
    let folder = Folder::new();
    folder.write("corpus.jsonl", json!({"id": "a", "text": TEXT, "lang": "en"}).to_string() + "\n");
    folder.write(
        "fonex.toml",
        "corpus = \"corpus.jsonl\"\n[engine.espeak]\ntransport = \"command\"\ntask = \"speak\"\nstdin = \"text\"\nvoices = [\"en-gb\"]\n\
         command = [\"espeak-ng\", \"-v\", \"{voice}\", \"-p\", \"{settings.pitch}\", \"-s\", \"{settings.speed}\", \"-w\", \"{output}\", \"--stdin\"]\n\
         settings = { pitch = 50, speed = 160 }\n[plan.pitch]\nengines = [\"espeak\"]\nsettings.pitch = [10, 30, 50, 70, 90]\n\
         [plan.speed]\nengines = [\"espeak\"]\nsettings.speed = [80, 120, 160, 220, 300]\n",
    );
    for (at, plan, id) in [("1", "pitch", "pitch_hz"), ("2", "speed", "pace_speaking")] {
        folder.fonex(&["run", plan]).expect(0);
        let run: Value = folder.fonex(&["show", at, "--format", "json"]).expect(0).json();
        let variants = run["variants"].as_array().unwrap();
        let values: Vec<f64> = variants.iter().map(|v| v["measures"][id]["value"].as_f64().unwrap()).collect();
        assert!(values.len() == 5 && values.windows(2).all(|two| two[1] > 1.03 * two[0]), "{plan}: {values:?}");
    }
}
