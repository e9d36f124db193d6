//! How voices speak and what is wrong with their audio: planted, run, shown, compared, and looked at in single files.

use std::f64::consts::TAU;

use fonex_core::audio::Audio;
use fonex_formats::audio::encode_wav;
use serde_json::{Value, json};

use crate::util::Folder;

const RATE: usize = 16_000;

/// Four swells of a buzz a second, for two seconds between silences; its pitch rises by 6 % through the one given.
fn voice(pitch_hz: f64) -> Vec<f32> {
    let inside = (0..2 * RATE).map(|i| {
        let t = i as f64 / RATE as f64;
        let swell = 0.5 - 0.5 * (TAU * 4.0 * t).cos();
        let periods = pitch_hz * (0.97 * t + 0.015 * t * t);
        let buzz: f64 = (1..12).map(|h| (TAU * periods * f64::from(h)).sin() / f64::from(h)).sum();
        (0.15 * swell * buzz) as f32
    });
    let silence = || std::iter::repeat_n(0.0, RATE / 4);
    silence().chain(inside).chain(silence()).collect()
}

fn write(folder: &Folder, name: &str, samples: Vec<f32>) {
    folder.write(name, encode_wav(&Audio { rate_hz: RATE as u32, samples }).unwrap());
}

/// Two engines that copy a recording named after the text: one is sound, the other's are faulty in three of four.
fn world() -> Folder {
    let folder = Folder::new();
    for (at, text) in ["one", "two", "three", "four"].iter().enumerate() {
        write(&folder, &format!("good-{text}.wav"), voice(120.0 + 2.0 * at as f64));
        let mut bad = voice(200.0 + 2.0 * at as f64);
        match at {
            0 => bad[RATE / 8] += 0.2,
            // Where a swell is loudest.
            1 => bad[RATE * 7 / 8..RATE * 7 / 8 + RATE / 100].fill(0.0),
            // Cut there too.
            2 => drop(bad.drain(..RATE / 4 + RATE / 8)),
            _ => {}
        }
        write(&folder, &format!("bad-{text}.wav"), bad);
    }
    let lines: String = ["one", "two", "three", "four"]
        .iter()
        .enumerate()
        .map(|(at, text)| {
            let half = if at < 2 { "first" } else { "second" };
            format!("{}\n", json!({"id": text, "text": text, "tags": {"half": half}}))
        })
        .collect();
    folder.write("corpus.jsonl", lines);
    let engine = |name: &str| {
        format!(
            "[engine.{name}]\ntransport = \"command\"\ntask = \"speak\"\n\
             command = [\"sh\", \"-c\", 'cp \"{name}-$1.wav\" \"$2\"', \"-\", \"{{text}}\", \"{{output}}\"]\n"
        )
    };
    let bench = format!(
        "corpus = \"corpus.jsonl\"\n{}{}[plan.p]\nengines = [\"good\", \"bad\"]\n",
        engine("good"),
        engine("bad")
    );
    folder.write("fonex.toml", bench);
    folder
}

#[test]
fn planted_faults_and_pitches_are_measures_like_all_others() {
    let folder = world();
    let run: Value = folder.fonex(&["run", "p", "--format", "json"]).expect(0).json();
    let figure = |variant: usize, id: &str| run["variants"][variant]["measures"][id]["value"].as_f64();
    for (variant, pitch, faulty) in [(0, 123.0, 0.0), (1, 203.0, 0.75)] {
        let found = figure(variant, "pitch_hz").unwrap();
        assert!((found / pitch - 1.0).abs() < 0.01, "{found} for {pitch}");
        assert_eq!(figure(variant, "faulty_clips"), Some(faulty));
        assert!((figure(variant, "syllable_rate").unwrap() - 4.0).abs() < 0.5);
    }
    for (id, share) in
        [("clips_with_clicks", 0.25), ("clips_with_dropouts", 0.25), ("clips_cut_off", 0.25), ("clips_with_hum", 0.0)]
    {
        assert_eq!(figure(1, id), Some(share), "{id}");
    }
    // By slice, in a table, compared and followed.
    let slices = run["variants"][1]["slices"].as_array().unwrap();
    let of = |value: &str| {
        slices.iter().find(|slice| slice["value"] == value).unwrap()["measures"]["faulty_clips"]["value"].clone()
    };
    assert_eq!((of("first"), of("second")), (json!(1.0), json!(0.5)));
    folder.fonex(&["show", "--measure", "pitch_*"]).expect(0).prints(&["pitch, median", "Hz", "st"]);
    let compared: Value =
        folder.fonex(&["compare", "1", "--measure", "pitch_hz", "--format", "json"]).expect(0).json();
    let finding = &compared[0]["findings"][0];
    assert!((finding["difference"].as_f64().unwrap() - 80.0).abs() < 2.0, "{finding}");
    folder
        .fonex(&["trend", "--measure", "faulty_clips", "--format", "csv"])
        .expect(0)
        .prints(&["faulty_clips", "0.75"]);
    folder.fonex(&["report", "1", "-o", "r.html"]).expect(0);
    assert!(folder.read("r.html").contains("clips with audio faults"));
}

#[test]
fn one_recording_is_told_in_plain_words() {
    let folder = world();
    folder.fonex(&["audio", "bad-one.wav"]).expect(0).prints(&[
        "syllables a second",
        "pitch 200 Hz",
        "audio faults: 1 click (at 0.12 s)",
    ]);
    folder.fonex(&["audio", "good-one.wav"]).expect(0).prints(&["pitch 120 Hz", "flat"]);
    let tried: Value = folder.fonex(&["try", "bad", "three", "-o", "x.wav", "--format", "json"]).expect(0).json();
    assert_eq!(tried["speech"]["faults"]["cut_beginning"], true);
    folder.fonex(&["try", "bad", "two", "-o", "x.wav"]).expect(0).prints(&["1 dropout (at 0.8"]);
    // A folder of clips is measured so only when it is asked for.
    folder.write(
        "heard.jsonl",
        "{\"id\":\"a\",\"audio\":\"good-one.wav\",\"text\":\"one\"}\n{\"id\":\"b\",\"audio\":\"bad-two.wav\",\"text\":\"two\"}\n",
    );
    let plain = folder.fonex(&["audio", "heard.jsonl", "--format", "csv"]).expect(0).out;
    assert!(!plain.contains("pitch"), "{plain}");
    let speech = folder
        .fonex(&["audio", "heard.jsonl", "--speech", "--format", "csv"])
        .expect(0)
        .prints(&["pitch_hz", "dropouts"]);
    assert_eq!(speech.out.lines().count(), 3);
}

#[test]
fn sound_that_is_none_has_no_figures_and_harms_nothing() {
    let folder = Folder::new();
    write(&folder, "silent.wav", vec![0.0; RATE]);
    write(&folder, "short.wav", vec![0.1; 20]);
    write(&folder, "square.wav", (0..RATE).map(|i| if i % 100 < 50 { 1.0 } else { -1.0 }).collect());
    write(&folder, "rest.wav", (0..RATE).map(|i| if i == 0 { 0.9 } else { 0.0 }).collect());
    for name in ["silent.wav", "short.wav", "square.wav", "rest.wav"] {
        let told: Value = folder.fonex(&["audio", name, "--format", "json"]).expect(0).json();
        let speech = &told[0]["speech"];
        assert!(speech.is_object(), "{told}");
        assert!(name == "square.wav" || speech["pitch"].is_null(), "{name}: {speech}");
    }
    let silent = folder.fonex(&["audio", "silent.wav"]).expect(0);
    assert!(!silent.out.contains("audio faults"), "{}", silent.out);
}
