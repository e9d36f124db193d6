//! `fonex corpus` and `fonex audio`: the material, sound and broken.

use std::collections::BTreeMap;
use std::f32::consts::TAU;

use fonex_core::audio::Audio;
use fonex_formats::audio::{encode_flac, encode_wav, read_audio};
use serde_json::{Value, json};

use crate::util::Folder;

/// Bursts of tone over a faint hiss, as speech and pauses are; `seed` makes one unlike another.
pub fn sound(seconds: f32, level: f32, seed: u32) -> Audio {
    let mut state = seed.wrapping_mul(747_796_405).wrapping_add(1);
    let samples = (0..(seconds * 16_000.0) as u32).map(|i| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let hiss = (state >> 8) as f32 / 16_777_216.0 - 0.5;
        let syllable =
            if i % 6_400 < 4_000 { (i as f32 / 16_000.0 * (200.0 + seed as f32) * TAU).sin() } else { 0.0 };
        level * syllable + 0.002 * hiss
    });
    Audio { rate_hz: 16_000, samples: samples.collect() }
}

pub fn wav(audio: &Audio) -> Vec<u8> {
    encode_wav(audio).unwrap()
}

/// A WAV header of our own, for files that no writer would make.
fn raw_wav(format: u16, channels: u16, rate_hz: u32, bits: u16, data: &[u8]) -> Vec<u8> {
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((36 + data.len() as u32).to_le_bytes());
    bytes.extend(b"WAVEfmt \x10\0\0\0");
    bytes.extend(format.to_le_bytes());
    bytes.extend(channels.to_le_bytes());
    bytes.extend(rate_hz.to_le_bytes());
    bytes.extend((rate_hz.wrapping_mul(u32::from(channels) * u32::from(bits) / 8)).to_le_bytes());
    bytes.extend((channels * bits / 8).to_le_bytes());
    bytes.extend(bits.to_le_bytes());
    bytes.extend(b"data");
    bytes.extend((data.len() as u32).to_le_bytes());
    bytes.extend(data);
    bytes
}

pub fn corpus_lines(clips: &[Value]) -> String {
    clips.iter().map(|clip| format!("{clip}\n")).collect()
}

/// Complaints as check and clip.
fn complaints(folder: &Folder, corpus: &str, code: i32) -> Vec<(String, String)> {
    let checked: Value = folder.fonex(&["corpus", "check", corpus, "--format", "json"]).expect(code).json();
    let all = checked["complaints"].as_array().unwrap().iter();
    let of = |c: &Value, key: &str| c[key].as_str().unwrap_or_default().to_owned();
    all.map(|c| (of(c, "check"), of(c, "clip"))).collect()
}

#[test]
fn a_folder_is_imported_and_then_checks_clean() {
    let folder = Folder::new();
    for (i, id) in ["a", "b", "c", "d"].into_iter().enumerate() {
        folder.write(&format!("in/{id}.wav"), wav(&sound(3.0, 0.3, i as u32 + 1)));
    }
    folder.write("in/a.txt", "Hold at pylon six.\r\n");
    folder.write("in/b.vtt", "WEBVTT\n\n00:00.200 --> 00:01.000\n<v Ilka>Doors <i>close</i>\n\n00:01.200 --> 00:02.800\nnow <00:02.000>please\n");
    folder.write(
        "in/c.json",
        json!({"text": "Cabin nine", "words": [{"text": "Cabin", "start": 0.1, "end": 0.4}]}).to_string(),
    );
    folder.write("in/e.txt", "No sound belongs to this.");
    folder
        .fonex(&["corpus", "import", "in", "-o", "out", "--lang", "en", "--tag", "channel=desk"])
        .expect(0)
        .says(&["2 items skipped", "e: no audio of this name", "d.wav: no text of this name"]);
    let lines: Vec<Value> =
        folder.read("out/corpus.jsonl").lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let texts: Vec<&str> = lines.iter().map(|clip| clip["text"].as_str().unwrap()).collect();
    assert_eq!(texts, ["Hold at pylon six.", "Doors close now please", "Cabin nine"]);
    assert_eq!(lines[1]["segments"][1], json!({"text": "now please", "start": 1.2, "end": 2.8}));
    assert_eq!(lines[1]["words"][1], json!({"text": "please", "start": 2.0, "end": 2.8}));
    assert_eq!((&lines[2]["words"][0]["end"], &lines[0]["tags"]["channel"]), (&json!(0.4), &json!("desk")));
    assert_eq!(complaints(&folder, "out/corpus.jsonl", 0), []);
    folder.fonex(&["corpus", "import", "in", "-o", "out"]).expect(2).says(&["already holds a corpus"]);
}

#[test]
fn a_table_is_imported_by_its_columns() {
    let folder = Folder::new();
    folder.write("clips/x1.wav", wav(&sound(3.0, 0.3, 1)));
    folder.write("clips/x2.wav", wav(&sound(3.0, 0.3, 2)));
    folder.write(
        "list.csv",
        "\u{feff}path,sentence,region,age\r\nclips/x1.wav,\"Hold, at \"\"pylon\"\"\nsix.\",north,30\r\nclips/x2.wav,Doors close.,south,40\r\nclips/x3.wav,Gone.,south,1\r\n",
    );
    let map = "audio=path,text=sentence,tags.accent=region";
    folder
        .fonex(&["corpus", "import", "list.csv", "--map", map, "-o", "out"])
        .expect(0)
        .says(&["columns that nothing is mapped to: age", "list.csv:5: there is no"]);
    let first: Value = serde_json::from_str(folder.read("out/corpus.jsonl").lines().next().unwrap()).unwrap();
    assert_eq!((&first["id"], &first["tags"]["accent"]), (&json!("x1"), &json!("north")));
    assert_eq!(first["text"], json!("Hold, at \"pylon\"\nsix."));
    folder
        .fonex(&["corpus", "import", "list.csv", "--map", "text=sentense", "-o", "o"])
        .expect(2)
        .says(&["write \"sentence\""]);
    folder
        .fonex(&["corpus", "import", "list.csv", "--map", "txt=sentence", "-o", "o"])
        .expect(2)
        .says(&["no field \"txt\""]);
    folder.fonex(&["corpus", "import", "list.csv", "-o", "o"]).expect(2).says(&["--map text=COLUMN"]);
}

#[test]
fn no_id_overwrites_another_and_no_table_reaches_out_of_its_folder() {
    let folder = Folder::new();
    let ids = ["a/b", "a_b", "a\\b", "a%2Fb"];
    for (at, _) in (0..).zip(&ids) {
        folder.write(&format!("list/{at}.wav"), wav(&sound(1.0, 0.3, at)));
    }
    folder.write("secret.wav", wav(&sound(1.0, 0.3, 9)));
    let rows: String = ids.iter().enumerate().map(|(at, id)| format!("{id},hold at {at},{at}.wav\n")).collect();
    folder.write("list/list.csv", format!("id,text,audio\n{rows}out,hold,../secret.wav\n"));
    let import = ["corpus", "import", "list/list.csv", "-o", "out"];
    folder
        .fonex(&import)
        .expect(0)
        .says(&["out: ", "secret.wav is outside the source folder; --outside includes it"]);
    let files = |folder: &std::path::Path| std::fs::read_dir(folder).unwrap().count();
    assert_eq!(files(&folder.path().join("out/audio")), 4, "each id has a file of its own");
    let again = ["corpus", "import", "list/list.csv", "-o", "all", "--outside"];
    folder.fonex(&again).expect(0).prints(&["5 clips imported"]);
    folder.fonex(&["corpus", "vary", "out/corpus.jsonl", "--recipe", "gain=-6", "-o", "quiet"]).expect(0);
    assert_eq!(files(&folder.path().join("quiet/audio")), 4);
    folder.fonex(&["corpus", "check", "quiet/corpus.jsonl"]).expect(0);
}

#[test]
fn a_long_recording_is_kept_whole_or_cut_at_its_captions() {
    let folder = Folder::new();
    folder.write("talk.flac", encode_flac(&sound(10.0, 0.3, 5)).unwrap());
    folder.write(
        "talk.srt",
        "1\n00:00:00,500 --> 00:00:02,000\n<font color=\"red\">Hold</font> at {\\an8}pylon\n\n2\n00:00:01,500 --> 00:00:03,000\nOverlaps\n\n\
         3\n00:00:04,000 --> 00:00:06,250\nDoors close\n\n4\n00:00:06,500 --> 00:00:07,000\n<i></i>\n\n5\n00:00:09,000 --> 00:00:12,000\nToo late\n",
    );
    folder.fonex(&["corpus", "import", "talk.flac", "--captions", "talk.srt", "--cut", "-o", "cut"]).expect(0).says(
        &[
            "3 items skipped",
            "caption 2 at 1.5 s: it starts before 2 s",
            "caption 4 at 6.5 s: it has no text",
            "caption 5 at 9 s: it ends at 12 s",
        ],
    );
    let cut = read_audio(&folder.path().join("cut/audio/talk-0003.flac")).unwrap().audio;
    let whole = read_audio(&folder.path().join("talk.flac")).unwrap().audio;
    assert_eq!(cut.samples, whole.samples[64_000..100_000]);
    let text = folder.read("cut/corpus.jsonl");
    assert!(text.contains("\"text\":\"Hold at pylon\"") && text.contains("\"text\":\"Doors close\""), "{text}");
    folder.fonex(&["corpus", "import", "talk.flac", "--captions", "talk.srt", "-o", "whole"]).expect(0);
    let clip: Value = serde_json::from_str(&folder.read("whole/corpus.jsonl")).unwrap();
    assert_eq!((clip["segments"].as_array().unwrap().len(), &clip["id"]), (4, &json!("talk")));
    folder.write("back.srt", "1\n00:00:05,000 --> 00:00:02,000\nBackwards\n");
    folder
        .fonex(&["corpus", "import", "talk.flac", "--captions", "back.srt", "-o", "x"])
        .expect(2)
        .says(&["back.srt:2", "before its start"]);
    folder.fonex(&["corpus", "import", "talk.flac", "-o", "x"]).expect(2).says(&["--captions FILE"]);
}

#[test]
fn every_planted_fault_is_found_and_nothing_else() {
    let folder = Folder::new();
    let good = sound(3.0, 0.3, 1);
    let mut offset = sound(3.0, 0.3, 2);
    offset.samples.iter_mut().for_each(|s| *s += 0.05);
    let mut clipped = sound(3.0, 4.0, 3);
    clipped.samples.iter_mut().for_each(|s| *s = s.clamp(-1.0, 1.0));
    let stereo: Vec<u8> = (0..64_000_i32).flat_map(|i| (((i / 2 % 90) * 200) as i16).to_le_bytes()).collect();
    let eight_bits: Vec<u8> = sound(3.0, 0.3, 12).samples.iter().map(|s| (s * 127.0 + 128.0) as u8).collect();
    let files: [(&str, Vec<u8>); 11] = [
        ("good.wav", wav(&good)),
        ("twin.wav", wav(&good)),
        ("offset.wav", wav(&offset)),
        ("clipped.wav", wav(&clipped)),
        ("quiet.wav", wav(&sound(3.0, 0.002, 4))),
        ("silent.wav", wav(&Audio { rate_hz: 16_000, samples: vec![0.0; 32_000] })),
        ("renamed.wav", encode_flac(&sound(3.0, 0.3, 6)).unwrap()),
        ("short.flac", encode_flac(&sound(3.0, 0.3, 7)).unwrap()[..20_000].to_vec()),
        ("stereo.wav", raw_wav(1, 2, 16_000, 16, &stereo)),
        ("fast.wav", wav(&sound(3.0, 0.3, 9))),
        ("eight.wav", raw_wav(1, 1, 16_000, 8, &eight_bits)),
    ];
    let mut clips = vec![json!({"id": "absent", "audio": "absent.wav", "text": "one two three", "lang": "en"})];
    for (name, bytes) in &files {
        folder.write(name, bytes);
        let id = name.split('.').next().unwrap();
        clips.push(json!({"id": id, "audio": name, "text": format!("cabin {id} holds"), "lang": "en"}));
    }
    let fast = "seven words here ".repeat(20);
    clips[10]["text"] = json!(fast);
    let only_text = |id: &str, text: &str, lang: &str| json!({"id": id, "text": text, "lang": lang});
    clips.push(json!({"id": "term", "text": "hold at pylon six", "terms": ["pylon nine"], "lang": "en"}));
    clips.push(json!({"id": "times", "audio": "good2.wav", "text": "hold it there", "words": [{"text": "hold", "start": 2.9, "end": 9.0}]}));
    clips.push(json!({"id": "order", "text": "hold it", "words": [{"text": "hold", "start": 1.0, "end": 2.0}, {"text": "it", "start": 1.5, "end": 2.5}]}));
    folder.write("good2.wav", wav(&sound(3.0, 0.3, 11)));
    clips.push(only_text("script", "держать опору", "en"));
    clips.push(only_text("language", "der wind ist stark und die bahn ist zu", "en"));
    clips.push(only_text("strange", "hold \u{FFFD} there", "en"));
    clips.push(only_text("empty", "...", "en"));
    clips.push(only_text("again", "hold at pylon six", "en"));
    let segment = |start: f64, end: f64, text: &str| json!({"text": text, "start": start, "end": end});
    let twelve = "one two three four five six seven eight nine ten eleven twelve";
    clips.push(json!({"id": "overlap", "text": "wait over there", "segments": [segment(0.0, 2.0, "hold"), segment(1.5, 3.0, "there")]}));
    clips.push(json!({"id": "full", "text": twelve, "segments": [segment(0.0, 0.1, twelve)]}));
    clips.push(json!({"id": "dots", "audio": "dots.wav", "text": "hold . . . . . . . . . . . . . . . . . . . . . . on", "lang": "en"}));
    folder.write("dots.wav", wav(&sound(2.0, 0.3, 13)));
    let mut hiss = sound(3.0, 0.0, 14);
    hiss.samples.iter_mut().for_each(|s| *s *= 100.0);
    folder.write("nobody.wav", wav(&hiss));
    clips.push(json!({"id": "nobody", "audio": "nobody.wav", "text": "is anybody there", "lang": "en"}));
    // Looked at and found right, but for one without a reason.
    let accepted = |id: &str, reason: &str| json!({"id": id, "text": "der wind ist stark und die bahn", "lang": "en", "tags": {"accept.other-language": reason}});
    clips.push(accepted("quoted", "a quotation"));
    clips.push(accepted("unexplained", " "));
    folder.write("corpus.jsonl", corpus_lines(&clips));
    let expected: BTreeMap<&str, &[&str]> = BTreeMap::from([
        ("absent", &["audio-unusable"][..]),
        ("twin", &["duplicate-audio"]),
        ("offset", &["dc-offset"]),
        ("clipped", &["clipping"]),
        ("quiet", &["low-level"]),
        ("silent", &["audio-silent"]),
        ("renamed", &["audio-mislabelled"]),
        ("short", &["audio-truncated"]),
        ("stereo", &["dc-offset", "no-speech", "several-channels"]),
        ("fast", &["speaking-rate"]),
        ("eight", &["few-bits"]),
        ("term", &["term-absent"]),
        ("times", &["label-times"]),
        ("order", &["label-order"]),
        ("script", &["other-script"]),
        ("language", &["other-language"]),
        ("strange", &["strange-characters"]),
        ("empty", &["empty-label"]),
        ("again", &["duplicate-text"]),
        ("overlap", &["segment-order"]),
        ("full", &["segment-rate"]),
        ("unexplained", &["duplicate-text", "other-language"]),
        ("nobody", &["no-speech"]),
    ]);
    let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (check, clip) in complaints(&folder, "corpus.jsonl", 3) {
        found.entry(clip).or_default().push(check);
    }
    found.values_mut().for_each(|checks| checks.sort());
    for (clip, checks) in &expected {
        assert_eq!(found.remove(*clip).unwrap_or_default(), *checks, "{clip}");
    }
    assert!(found.is_empty(), "more than was planted: {found:?}");

    let bench = "[engine.e]\ntransport = \"command\"\ntask = \"hear\"\ncommand = [\"x\", \"{audio}\"]\naudio_rate_hz = 48000\n";
    folder.write("fonex.toml", bench);
    folder.write("one.jsonl", corpus_lines(&clips[1..2]));
    folder.fonex(&["corpus", "check", "one.jsonl", "--all"]).expect(0).prints(&[
        "rate-too-low",
        "16000 Hz, but e takes 48000 Hz",
        "do: ",
    ]);
    folder.fonex(&["corpus", "check", "one.jsonl", "--warnings"]).expect(3);

    // The bench file accepts what a person found right, for some clips or for all.
    let accept =
        |check: &str, rest: &str| format!("[[accept]]\ncheck = \"{check}\"\n{rest}\nreason = \"looked at\"\n");
    let all = accept("rate-too-low", "") + &accept("dc-offset", "clips = [\"g*d\", \"nobody\"]");
    folder.write("fonex.toml", bench.to_owned() + &all);
    let done = folder.fonex(&["corpus", "check", "one.jsonl", "--warnings"]).expect(0);
    done.prints(&["1 complaint accepted"]).says(&["accepts dc-offset in g*d, nobody, but there is no such problem"]);
    folder.write("fonex.toml", bench.to_owned() + &accept("dc-ofset", ""));
    folder.fonex(&["corpus", "check", "one.jsonl"]).expect(2).says(&["dc-ofset", "dc-offset"]);
    folder.write("fonex.toml", bench.to_owned() + &accept("dc-offset", "").replace("looked at", " "));
    folder.fonex(&["corpus", "check", "one.jsonl"]).expect(2).says(&["has no reason"]);
}

#[test]
fn hostile_files_are_named_and_hurt_no_other_clip() {
    let folder = Folder::new();
    let float = |values: &[f32]| values.iter().flat_map(|v| v.to_le_bytes()).collect::<Vec<u8>>();
    let hostile: [(&str, Vec<u8>); 9] = [
        ("zero.wav", Vec::new()),
        ("norate.wav", raw_wav(1, 1, 0, 16, &[0; 400])),
        ("wide.wav", raw_wav(1, 64, 16_000, 16, &[1; 12_800])),
        ("nobits.wav", raw_wav(1, 1, 16_000, 0, &[1; 400])),
        ("huge.wav", [&raw_wav(1, 1, 16_000, 16, &[])[..40], &[0xff, 0xff, 0xff, 0x7f, 1, 2]].concat()),
        ("fast.wav", raw_wav(1, 1, u32::MAX, 16, &[1; 400])),
        ("junk.flac", [b"fLaC".to_vec(), vec![0xff; 5_000]].concat()),
        ("text.mp3", b"these words are no sound".repeat(90)),
        ("head.m4a", b"\0\0\0\x20ftypM4A \0\0\0\0M4A mp42isom\0\0\0\0\xff\xff\xff\xffmdat".to_vec()),
    ];
    let mut clips = vec![json!({"id": "fine", "audio": "fine.wav", "text": "hold at pylon"})];
    folder.write("fine.wav", wav(&sound(3.0, 0.3, 1)));
    for (name, bytes) in &hostile {
        folder.write(name, bytes);
        clips.push(json!({"id": name, "audio": name, "text": "hold at pylon six"}));
    }
    folder.write("nan.wav", raw_wav(3, 1, 16_000, 32, &float(&[f32::NAN, f32::INFINITY, 0.5, -0.5].repeat(4_000))));
    clips.push(json!({"id": "nan.wav", "audio": "nan.wav", "text": "hold at pylon six now"}));
    std::os::unix::fs::symlink("loop.wav", folder.path().join("loop.wav")).unwrap();
    clips.push(json!({"id": "loop", "audio": "loop.wav", "text": "hold on"}));
    folder.write("corpus.jsonl", corpus_lines(&clips));
    let found = complaints(&folder, "corpus.jsonl", 3);
    let spoiled: Vec<&str> =
        found.iter().filter(|(check, _)| check.starts_with("audio")).map(|(_, clip)| clip.as_str()).collect();
    for (name, _) in &hostile {
        assert!(spoiled.contains(name), "{name} passes: {found:?}");
    }
    assert!(spoiled.contains(&"nan.wav") && spoiled.contains(&"loop"), "{found:?}");
    assert!(!found.iter().any(|(check, clip)| clip == "fine" && check != "duplicate-text"), "{found:?}");
    let measured: Value =
        folder.fonex(&["audio", "fine.wav", "zero.wav", "nan.wav", "--format", "json"]).expect(3).json();
    assert_eq!(measured.as_array().unwrap().len(), 2);
    assert!(measured[1]["defect"].as_str().unwrap().contains("8000 samples are not numbers"));
}
