//! `fonex corpus vary`, `pick` and `describe`: corpora made from others.

use fonex_formats::audio::read_audio;
use serde_json::{Value, json};

use crate::material::{corpus_lines, sound, wav};
use crate::util::Folder;

#[test]
fn variations_reach_their_ratio_and_carry_their_times() {
    let folder = Folder::new();
    folder.write("a.wav", wav(&sound(3.0, 0.3, 1)));
    folder.write("b.wav", wav(&sound(3.0, 0.3, 2)));
    let words = json!([{"text": "hold", "start": 1.0, "end": 1.5}]);
    folder.write(
        "corpus.jsonl",
        corpus_lines(&[
            json!({"id": "a", "audio": "a.wav", "text": "hold now there", "words": words, "tags": {"channel": "desk"}}),
            json!({"id": "b", "audio": "b.wav", "text": "hold it there"}),
        ]),
    );
    let arguments = [
        "corpus",
        "vary",
        "corpus.jsonl",
        "--recipe",
        "noise=babble:12",
        "--recipe",
        "speed=1.25 telephone=mu",
        "-o",
    ];
    let run = |out: &'static str| folder.fonex(&[&arguments[..], &[out]].concat()).expect(0);
    run("one").prints(&["12.0 to 12.0 dB", "speed=1.25 telephone=mu"]);
    run("two");
    assert_eq!(folder.read("one/corpus.jsonl"), folder.read("two/corpus.jsonl"), "the same seed, the same bytes");
    let clips: Vec<Value> =
        folder.read("one/corpus.jsonl").lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let tags = |at: usize, tag: &str| clips[at]["tags"][tag].as_str().unwrap().to_owned();
    assert_eq!(
        (tags(0, "varied"), tags(0, "varied_from"), tags(0, "noise_snr_db"), tags(0, "channel")),
        ("noise=babble:12".into(), "a".into(), "12.0".into(), "desk".into())
    );
    assert_eq!(clips[2]["words"][0], json!({"text": "hold", "start": 0.8, "end": 1.2}));
    let narrow = read_audio(&folder.path().join("one/audio/a+2.flac")).unwrap().audio;
    assert_eq!((narrow.rate_hz, (narrow.duration_s() * 100.0).round()), (8_000, 240.0));

    // The ratio, measured again from the files.
    let clean = read_audio(&folder.path().join("a.wav")).unwrap().audio;
    let noisy = read_audio(&folder.path().join("one/audio/a+1.flac")).unwrap().audio;
    let added: f64 = clean.samples.iter().zip(&noisy.samples).map(|(c, n)| f64::from(n - c).powi(2)).sum();
    let added_db = 10.0 * (added / clean.samples.len() as f64).log10();
    let reached = fonex_core::audio::active_level_db(&clean).unwrap() - added_db;
    assert!((reached - 12.0).abs() < 0.5, "{reached}");
    folder
        .fonex(&["corpus", "vary", "corpus.jsonl", "--recipe", "echo=1", "-o", "x"])
        .expect(2)
        .says(&["no such step", "room=RT60_S"]);
    folder.fonex(&[&arguments[..], &["one"]].concat()).expect(2).says(&["already holds a corpus"]);
}

#[test]
fn clips_are_picked_sampled_split_and_described() {
    let folder = Folder::new();
    folder.write("a.wav", wav(&sound(3.0, 0.3, 1)));
    let clips: Vec<Value> = (0..20)
        .map(|i| {
            let channel = if i % 4 == 0 { "radio" } else { "desk" };
            json!({"id": format!("c{i:02}"), "audio": "a.wav", "text": "hold at pylon six", "speaker": format!("s{}", i % 5),
                "lang": "en", "tags": {"channel": channel}})
        })
        .collect();
    folder.write("corpus.jsonl", corpus_lines(&clips));
    let pick = |extra: &[&str]| folder.fonex(&[&["corpus", "pick", "corpus.jsonl"], extra].concat());
    let picked = pick(&["--where", "channel = radio and duration < 4 and speaker in (s0, s1)"]).expect(0);
    let ids: Vec<Value> =
        picked.out.lines().map(|l| serde_json::from_str::<Value>(l).unwrap()["id"].clone()).collect();
    assert_eq!(ids, ["c00", "c16"]);
    let sample = pick(&["--sample", "8", "--by", "channel"]).expect(0).out;
    assert_eq!((sample.lines().count(), sample.matches("\"radio\"").count()), (8, 2));
    pick(&["--split", "60,40", "-o", "part.jsonl"])
        .expect(0)
        .prints(&["part-1.jsonl: 12 clips", "part-2.jsonl: 8 clips"]);
    let speakers = |name: &str| -> Vec<String> {
        folder.read(name).lines().map(|l| serde_json::from_str::<Value>(l).unwrap()["speaker"].to_string()).collect()
    };
    assert!(speakers("part-1.jsonl").iter().all(|s| !speakers("part-2.jsonl").contains(s)));

    // Without speakers the clips are dealt one by one, equal texts and variations of one clip together.
    let nameless: Vec<Value> = (0..12)
        .map(|i| match i {
            0..4 => json!({"id": format!("n{i}"), "text": "hold on"}),
            4..8 => json!({"id": format!("n{i}"), "text": format!("cabin {}", i / 2), "tags": {"varied_from": "n"}}),
            _ => json!({"id": format!("n{i}"), "text": format!("text {i}")}),
        })
        .collect();
    folder.write("nameless.jsonl", corpus_lines(&nameless));
    let done = folder.fonex(&["corpus", "pick", "nameless.jsonl", "--split", "50,50", "-o", "half.jsonl"]).expect(0);
    done.prints(&["no speakers named"]).says(&["12 of 12 clips have no speaker"]);
    let parts = ["half-1.jsonl", "half-2.jsonl"].map(|name| folder.read(name));
    for together in [["n0", "n1"], ["n2", "n3"], ["n4", "n5"], ["n5", "n7"]] {
        let part = |id: &str| parts.iter().position(|part| part.contains(&format!("\"{id}\""))).unwrap();
        assert_eq!(part(together[0]), part(together[1]), "{together:?}");
    }
    pick(&["--where", "channel == radio"]).expect(2).says(&["column 10"]);
    pick(&["--where", "chanel = radio"]).expect(2).says(&["write \"channel\""]);
    pick(&["-o", "elsewhere/x.jsonl"]).expect(2).says(&["beside the corpus"]);

    let arguments =
        ["corpus", "describe", "corpus.jsonl", "--cross", "channel,speaker", "-o", "c.svg", "--format", "json"];
    let described: Value = folder.fonex(&arguments).expect(0).json();
    assert_eq!(
        (&described["clips"], &described["words"], &described["vocabulary"]),
        (&json!(20), &json!(80), &json!(4))
    );
    assert_eq!(described["distributions"][0]["p50"], json!(3.0));
    assert!(
        described["crossed"].as_array().unwrap().contains(&json!({"first": "radio", "second": "s0", "clips": 1}))
    );
    assert!(folder.read("c.svg").contains("speaking rate, words/s"));
    folder
        .fonex(&["audio", "corpus.jsonl", "--clip", "c01", "-o", "s.svg"])
        .expect(0)
        .prints(&["c01: 3.00 s", "LUFS"]);
    assert!(folder.read("s.svg").contains("1 kHz"));
    let cut = ["audio", "a.wav", "--cut", "pieces", "--longest-piece", "1.2", "--least-pause", "0.1"];
    folder.fonex(&cut).expect(0).says(&["pieces.csv"]);
    let pieces: Vec<(f64, f64)> = folder
        .read("pieces/pieces.csv")
        .lines()
        .skip(1)
        .map(|row| {
            let cells: Vec<&str> = row.split(',').collect();
            let piece = read_audio(&folder.path().join("pieces").join(cells[0])).unwrap().audio;
            let (start, end): (f64, f64) = (cells[1].parse().unwrap(), cells[2].parse().unwrap());
            assert!((piece.duration_s() - (end - start)).abs() < 0.002 && end - start < 1.21, "{row}");
            (start, end)
        })
        .collect();
    assert!(pieces.len() >= 3 && pieces.windows(2).all(|pair| pair[0].1 <= pair[1].0 + 1e-3), "{pieces:?}");
    folder.fonex(&cut).expect(2).says(&["already holds pieces"]);
    folder.fonex(&["audio", "corpus.jsonl", "--clip", "c1"]).expect(2).says(&["no clip \"c1\""]);
}

/// More than is held: its pieces are cut out while it is decoded once more.
#[test]
fn a_long_recording_is_measured_and_cut_as_it_comes() {
    let folder = Folder::new();
    folder.write("long.wav", wav(&sound(340.0, 0.3, 5)));
    let whole = read_audio(&folder.path().join("long.wav")).unwrap().audio;
    let measured: Value = folder
        .fonex(&["audio", "long.wav", "--cut", "p", "--longest-piece", "20", "-o", "l.svg", "--format", "json"])
        .expect(0)
        .json();
    assert!(measured[0]["speech_pieces"].as_u64().unwrap() >= 2, "{measured}");
    assert_eq!(measured[0]["duration_s"], json!(340.0));
    assert!(folder.read("l.svg").contains("340.00 s"));
    let rows: Vec<String> = folder.read("p/pieces.csv").lines().skip(1).map(str::to_owned).collect();
    assert!(rows.len() >= 17, "{rows:?}");
    for row in rows {
        let cells: Vec<&str> = row.split(',').collect();
        let piece = read_audio(&folder.path().join("p").join(cells[0])).unwrap().audio.samples;
        let start = (cells[1].parse::<f64>().unwrap() * f64::from(whole.rate_hz)).round() as usize;
        // The list is rounded to a millisecond.
        let places = start.saturating_sub(16)..=start + 16;
        let there = |at: usize| whole.samples.get(at..at + piece.len()) == Some(&piece[..]);
        assert!(piece.len() > 1_000 && places.into_iter().any(there), "{row}: {}", piece.len());
    }
}
