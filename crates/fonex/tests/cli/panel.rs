//! Listening panels: built, rated in a real browser by keyboard, collected, and told apart from what is broken.

use serde_json::{Value, json};

use crate::browser::{Browser, from_base64};
use crate::util::{Folder, program_is_there};

/// Two voices that have spoken four texts each; names that would be seen if they leaked.
fn world() -> Folder {
    let folder = Folder::new();
    let clips = ["hold", "go", "stop", "wait"]
        .map(|word| json!({ "id": format!("clip-{word}"), "text": word }).to_string() + "\n");
    folder.write("corpus.jsonl", clips.concat());
    folder.write(
        "fonex.toml",
        "corpus = \"corpus.jsonl\"\n[engine.zephyrine]\ntransport = \"standin\"\ntask = \"speak\"\nvoices = [\"Quorra\", \"Brannoc\"]\n\
         [engine.zephyrine.behaviour.Brannoc]\npitch_hz = 110\nwords_per_minute = 220\n\
         [plan.voices]\nengines = [\"zephyrine\"]\n",
    );
    folder.fonex(&["run", "voices", "--label", "spring-build"]).expect(0);
    folder
}

fn key(folder: &Folder) -> Value {
    serde_json::from_str(&folder.read("panel.key.json")).unwrap()
}

#[test]
fn a_listener_with_a_keyboard_rates_a_panel_from_start_to_file() {
    if !program_is_there("chromium") {
        return;
    }
    let folder = world();
    for kind in ["opinion", "pairs"] {
        let line = [
            "panel",
            "build",
            "1",
            "--kind",
            kind,
            "--texts",
            "2",
            "--listeners",
            "4",
            "--practice",
            "1",
            "--checks",
            "1",
            "--show-text",
            "-o",
            "panel.html",
        ];
        folder.fonex(&line).expect(0);
        let mut browser = Browser::open(&folder.path().join("panel.html"), "");
        browser.accessible();
        browser.picture(390, 844, &format!("{kind}-welcome.png"));
        let session = |browser: &mut Browser| {
            for _ in 0..12 {
                if browser.value("document.activeElement.id") == "number" {
                    break;
                }
                browser.press("Tab");
            }
            assert_eq!(browser.value("document.activeElement.id"), "number", "the keyboard reaches the field");
            // A number that was not given out is refused in words.
            browser.press("9");
            browser.press("Enter");
            assert_eq!(browser.value("document.getElementById('question').hidden"), true);
            browser.press("Tab");
            browser.value("document.getElementById('number').value = ''; document.getElementById('number').focus()");
            browser.press("3");
            browser.press("Enter");
            browser.wait("!document.getElementById('question').hidden");
        };
        session(&mut browser);
        let pages = key(&folder)["sheets"][2].as_array().unwrap().len();
        for page in 0..pages {
            assert_eq!(
                browser.value("document.getElementById('place').textContent"),
                format!("{} of {pages}", page + 1)
            );
            browser.accessible();
            browser.press("4");
            browser.press("Enter");
            assert_eq!(
                browser.value("document.getElementById('next').disabled"),
                true,
                "nothing is answered unheard"
            );
            let ready = "!document.querySelector('#answer input').disabled";
            if kind == "pairs" {
                browser.press("a");
                browser.wait("document.getElementById('status').textContent.includes('not heard yet')");
                browser.press("b");
            } else {
                browser.press(" ");
            }
            browser.wait(ready);
            browser.press(if kind == "pairs" { "1" } else { "4" });
            if page == 1 {
                browser.picture(390, 844, &format!("{kind}-phone.png"));
                browser.picture(1280, 800, &format!("{kind}.png"));
            }
            browser.press("Enter");
            let ahead = format!(
                "document.getElementById('place').textContent !== '{} of {pages}' || document.getElementById('question').hidden",
                page + 1
            );
            browser.wait(&ahead);
            if page == 1 {
                // A closed tab goes on where it was.
                browser.call("Page.reload", json!({}));
                browser.wait("document.readyState === 'complete' && document.getElementById('question').hidden");
                session(&mut browser);
            }
        }
        browser.wait("!document.getElementById('end').hidden");
        browser.accessible();
        browser.picture(390, 844, &format!("{kind}-end.png"));
        assert!(browser.value("document.getElementById('save').download").as_str().unwrap().starts_with("ratings-"));
        let file = browser.value("document.getElementById('file-text').value");
        folder.write("sent/3.json", file.as_str().unwrap());
        assert_eq!(browser.complaints, [""; 0]);
        let result: Value =
            folder.fonex(&["panel", "collect", "panel.key.json", "sent", "--format", "json"]).expect(0).json();
        assert_eq!(result["left_out"], json!([]), "the seal of the page fits that of the program");
        let listener = &result["listeners"][0];
        assert_eq!((&listener["listener"], &listener["complete"]), (&json!(3), &json!(true)));
        std::fs::remove_dir_all(folder.path().join("sent")).unwrap();
    }
}

#[test]
fn an_anchored_page_is_rated_by_keyboard_too() {
    if !program_is_there("chromium") {
        return;
    }
    let folder = world();
    anchored(&folder);
    let mut browser = Browser::open(&folder.path().join("panel.html"), "#2");
    assert_eq!(browser.value("document.getElementById('number').value"), "2", "the address names the listener");
    browser.value("document.getElementById('number').focus()");
    browser.press("Enter");
    browser.wait("!document.getElementById('question').hidden");
    browser.accessible();
    for key in ["r", "1", "2", "3", "4"] {
        browser.press(key);
        browser.wait("!document.querySelector('.sounding')");
    }
    assert_eq!(browser.value("document.getElementById('next').disabled"), true);
    browser.value("document.querySelector('input[type=range]').focus()");
    for _ in 0..4 {
        browser.press("ArrowRight");
        browser.press("Tab");
        browser.press("Tab");
    }
    browser.picture(390, 844, "anchored-phone.png");
    browser.picture(1280, 800, "anchored.png");
    browser.press("End");
    browser.wait("!document.getElementById('next').disabled");
    browser.value("document.getElementById('next').focus()");
    browser.press("Enter");
    browser.wait("document.getElementById('place').textContent.startsWith('2 of')");
    let first = "JSON.parse(Object.values(localStorage)[0]).answers[0].values";
    assert_eq!(browser.value(first), json!([51, 51, 51, 51]));
    assert_eq!(browser.complaints, [""; 0]);
}

fn anchored(folder: &Folder) {
    // The corpus gets recordings: what one of the voices spoke.
    let kept = std::fs::read_dir(folder.path().join(".fonex/audio")).unwrap().next().unwrap().unwrap().path();
    let name = format!("audio/any.{}", kept.extension().unwrap().to_str().unwrap());
    folder.write(&name, std::fs::read(kept).unwrap());
    let with_audio: String = folder
        .read("corpus.jsonl")
        .lines()
        .map(|line| line.replacen("\"text\"", &format!("\"audio\":\"{name}\",\"text\""), 1) + "\n")
        .collect();
    folder.write("corpus.jsonl", with_audio);
    folder.fonex(&["run", "voices", "--label", "recorded"]).expect(0);
    folder.fonex(&["panel", "build", "recorded", "--kind", "anchored", "--listeners", "4"]).expect(0);
}

/// What a page must not say, in small letters.
const NAMES: [&str; 11] = [
    "zephyrine",
    "quorra",
    "brannoc",
    "clip-hold",
    "spring",
    "recorded",
    "standin",
    "stand-in",
    "anchor\"",
    "check\"",
    "fonex",
];

#[test]
fn nothing_in_the_page_tells_whose_sound_it_is() {
    let folder = world();
    anchored(&folder);
    folder.fonex(&["run", "voices", "--label", "summer"]).expect(0);
    for kind in ["opinion", "pairs", "anchored"] {
        folder
            .fonex(&["panel", "build", "summer", "recorded", "--kind", kind, "--texts", "3", "-o", "page.html"])
            .expect(0);
        let page = folder.read("page.html").to_lowercase();
        for name in NAMES {
            assert!(!page.contains(name), "{kind}: the page says {name}");
        }
        // Nor do the files within it, which are all of one kind and rate, whatever the engine gave.
        let whole = folder.read("page.html");
        let sounds: Vec<Vec<u8>> = whole
            .split("data:audio/flac;base64,")
            .skip(1)
            .map(|rest| from_base64(rest.split('"').next().unwrap()))
            .collect();
        let key: Value = serde_json::from_str(&folder.read("page.key.json")).unwrap();
        assert_eq!(sounds.len(), key["sounds"].as_array().unwrap().len());
        for sound in &sounds {
            assert!(sound.starts_with(b"fLaC"));
            let text = String::from_utf8_lossy(sound).to_lowercase();
            for name in NAMES {
                assert!(!text.contains(name), "{kind}: a sound says {name}");
            }
            // Sizes of blocks, rate, channels and width, as RFC 9639 has them.
            assert_eq!((&sound[8..12], &sound[18..21]), (&sounds[0][8..12], &sounds[0][18..21]));
        }
        // What sounds alike is not called alike: the order of numbers says nothing of voices.
        let voices: Vec<u64> =
            key["sounds"].as_array().unwrap().iter().map(|s| s["voice"].as_u64().unwrap()).collect();
        assert!(voices.windows(2).any(|two| two[0] > two[1]), "{voices:?}");
    }
    // The same seed and runs give the same page.
    let build = |seed: &str| {
        folder.fonex(&["panel", "build", "summer", "--seed", seed, "-o", "same.html"]).expect(0);
        folder.read("same.html")
    };
    assert_eq!(build("4"), build("4"));
    assert_ne!(build("4"), build("5"));
}

#[test]
fn ratings_that_are_broken_doubled_or_of_another_panel_are_left_out_and_told() {
    let folder = world();
    folder.fonex(&["panel", "build", "1", "--listeners", "12"]).expect(0);
    folder
        .fonex(&[
            "standin",
            "listen",
            "panel.key.json",
            "--likes",
            "zephyrine/Quorra=4.4,zephyrine/Brannoc=2.2",
            "--careless",
            "1",
        ])
        .expect(0);
    let all: Vec<std::path::PathBuf> =
        std::fs::read_dir(folder.path().join("ratings")).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert_eq!(all.len(), 12);
    let of = |listener: u32| {
        let ends = format!("-{listener}.json");
        std::fs::read_to_string(all.iter().find(|path| path.to_str().unwrap().ends_with(&ends)).unwrap()).unwrap()
    };
    let good = of(1);
    let mut edited: Value = serde_json::from_str(&good).unwrap();
    edited["answers"][3]["values"] = json!([5.0]);
    folder.write("ratings/edited.json", edited.to_string());
    folder.write("ratings/doubled.json", &good);
    folder.write(
        "ratings/pretty.json",
        serde_json::to_string_pretty(&serde_json::from_str::<Value>(&of(2)).unwrap()).unwrap(),
    );
    let mut other: Value = serde_json::from_str(&good).unwrap();
    other["panel"] = json!("</td><script>");
    folder.write("ratings/other.json", other.to_string());
    folder.write("ratings/half.json", &good[..good.len() / 2]);
    folder.write("ratings/empty.json", "");
    folder.write("ratings/bytes.json", b"\xff\xfe\x00");
    folder.write("ratings/deep.json", "[".repeat(100_000));
    std::fs::create_dir(folder.path().join("ratings/folder.json")).unwrap();
    let collected = folder.fonex(&["panel", "collect", "panel.key.json", "ratings", "--format", "json"]).expect(0);
    let result: Value = collected.json();
    let why = |file: &str| {
        let left_out = result["left_out"].as_array().unwrap();
        let found = left_out.iter().find(|one| one["file"].as_str().unwrap().ends_with(file));
        found.unwrap_or_else(|| panic!("{file} counts: {left_out:?}"))["why"].as_str().unwrap().to_owned()
    };
    assert!(why("edited.json").contains("seal"));
    // Of two alike files one counts, whichever it is.
    assert!(result["left_out"].to_string().contains("the same sitting as"));
    assert!(why("other.json").contains("another") || why("other.json").contains("belongs to the panel"));
    for (file, says) in [
        ("half.json", "not JSON"),
        ("empty.json", "not JSON"),
        ("bytes.json", "UTF-8"),
        ("deep.json", "list"),
        ("folder.json", ""),
    ] {
        assert!(why(file).contains(says), "{file}: {}", why(file));
    }
    let listeners = result["listeners"].as_array().unwrap();
    assert_eq!(listeners.len(), 12);
    assert_eq!(listeners.iter().filter(|one| !one["careless"].is_null()).count(), 1, "{listeners:?}");
    let voices = result["scores"]["voices"].as_array().unwrap();
    assert!(voices[0]["mean"].as_f64().unwrap() > voices[1]["mean"].as_f64().unwrap() + 1.0);
    assert!(
        result["measures"]
            .as_array()
            .unwrap()
            .iter()
            .any(|one| one["measure"] == "pace" || one["measure"] == "latency_p50")
    );

    // Somebody who rated twice: the sitting that began first counts.
    let mut again: Value = serde_json::from_str(&of(3)).unwrap();
    again["session"] = json!("another");
    folder.write("twice/a.json", of(3));
    folder.write("twice/b.json", again.to_string());
    let told = folder.fonex(&["panel", "collect", "panel.key.json", "twice"]).expect(0);
    told.prints(&["b.json"]);
    folder
        .fonex(&["panel", "collect", "panel.key.json", "ratings/half.json"])
        .expect(2)
        .says(&["no listener's ratings count", "half.json"]);
    folder.fonex(&["panel", "collect", "fonex.toml", "ratings"]).expect(2);
    let mut broken = key(&folder);
    broken["sounds"] = json!([]);
    folder.write("broken.key.json", broken.to_string());
    folder.fonex(&["panel", "collect", "broken.key.json", "ratings"]).expect(2).says(&["the key names sounds"]);
    folder
        .fonex(&["panel", "collect", "--study", "last"])
        .expect(0)
        .prints(&["Listeners' verdict", "zephyrine/Quorra"]);
    folder.fonex(&["report", "1", "--panel", "-o", "r.html"]).expect(0);
    let page = folder.read("r.html");
    assert!(
        page.contains("Listeners&#x27; verdict") && page.contains("What listeners think"),
        "the report shows the panel"
    );
    folder.fonex(&["runs", "--studies"]).expect(0).prints(&["panel"]);
}

#[test]
fn panels_that_cannot_be_are_refused_in_words() {
    let folder = world();
    folder.fonex(&["panel", "build", "1", "--voice", "Quora"]).expect(2).says(&["write \"Quorra\""]);
    folder.fonex(&["panel", "build", "1", "--voice", "Quorra", "--kind", "pairs"]).expect(2).says(&["at least 2"]);
    folder
        .fonex(&["panel", "build", "1", "--kind", "anchored"])
        .expect(2)
        .says(&["with a recording of it in the corpus"]);
    folder.fonex(&["panel", "build", "7"]).expect(2).says(&["no run \"7\""]);
    folder.fonex(&["standin", "listen", "panel.key.json"]).expect(2).says(&["panel.key.json"]);
    std::fs::remove_dir_all(folder.path().join(".fonex/audio")).unwrap();
    folder.fonex(&["panel", "build", "1"]).expect(2).says(&["run the plan again"]);
}
