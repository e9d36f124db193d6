//! Files that people write or download: corpora, results, captions, bench files, profiles, sound, keys.

use std::path::Path;

use fonex_core::audio::{Audio, measure};
use fonex_core::text::Label;
use fonex_formats::{Corpus, Place, captions, read_corpus, read_heard, read_mapped};
use fonex_run::{read_bench, read_profile};

use crate::{Target, is_time};

pub(crate) const CORPORA: Target = Target {
    name: "corpora",
    ending: "jsonl",
    whole: || {
        let corpus = shipped("corpus.jsonl");
        vec![corpus.split(|b| *b == b'\n').take(3).collect::<Vec<_>>().join(&b'\n')]
    },
    read: |path, _| {
        if let Ok(corpus) = read_corpus(path) {
            sane(&corpus);
        }
    },
};

pub(crate) const TABLES: Target = Target {
    name: "tables",
    ending: "csv",
    whole: || {
        vec![
            b"id,audio,text,lang,tags.channel\na,a.wav,\"Hold, at {six|6}.\",en,radio\nb,b.wav,Stop.,de,phone\n"
                .into(),
            b"id;audio;text\na;a.wav;hold \"at\" six\n".into(),
        ]
    },
    read: |path, _| {
        if let Ok(corpus) = read_corpus(path) {
            sane(&corpus);
        }
        drop(read_mapped(path, &[("text".to_owned(), "text".to_owned())].into()));
        drop(read_heard(path));
    },
};

/// As others' programs write them: packed in each way that is read, with strings, lists, numbers and what is missing.
#[cfg(feature = "parquet")]
pub(crate) const PARQUET: Target = Target {
    name: "parquet",
    ending: "parquet",
    whole: || {
        vec![
            include_bytes!("../whole/none.parquet").into(),
            include_bytes!("../whole/gzip.parquet").into(),
            include_bytes!("../whole/snappy.parquet").into(),
        ]
    },
    read: |path, _| {
        // The library's own panics are caught where it is called; a fuzzer would end at them before that.
        let hook = std::panic::take_hook();
        std::panic::set_hook(Box::new(|_| {}));
        let read = (read_corpus(path), read_heard(path), fonex_formats::listed_terms(path));
        std::panic::set_hook(hook);
        if let Ok(corpus) = read.0 {
            sane(&corpus);
        }
    },
};

pub(crate) const RESULTS: Target = Target {
    name: "results",
    ending: "jsonl",
    whole: || {
        vec![br#"{"id":"a","text":"hold at pylon 6","words":[{"text":"hold","start":0.1,"end":0.5,"confidence":0.9}],"took_ms":12.5,"alternatives":[{"text":"hold","confidence":0.1}]}"#.into()]
    },
    read: |path, _| {
        if let Ok(heard) = read_heard(path) {
            assert_eq!(heard.order.len(), heard.by_id.len(), "each id once");
        }
    },
};

pub(crate) const CAPTIONS: Target = Target {
    name: "captions",
    ending: "srt",
    whole: || {
        let srt = "1\n00:00:01,500 --> 00:00:03,000\n<i>Hold</i> at\npylon six\n\n2\n00:00:03,000 --> 00:00:04,250\nStop\n\n";
        let vtt = "WEBVTT\n\nNOTE x\n\nid\n00:01.000 --> 00:03.000 align:start\n<v Ann>Hold <00:01.500><c.loud>at</c> pylon &amp; six\n\n";
        vec![srt.into(), vtt.into()]
    },
    read: |path, bytes| {
        let Ok(cues) = captions::parse(&String::from_utf8_lossy(bytes), path) else { return };
        for cue in &cues {
            assert!(is_time(cue.start) && is_time(cue.end), "{} to {}", cue.start, cue.end);
            drop((cue.clean_lines(), cue.voice()));
            for word in cue.timed_words() {
                assert!(!word.text.trim().is_empty(), "a word has a text");
            }
        }
        drop((captions::clip_from(&cues), captions::heard_from(&cues)));
    },
};

pub(crate) const BENCHES: Target = Target {
    name: "benches",
    ending: "toml",
    whole: || vec![shipped("fonex.toml"), shipped("services.toml")],
    read: |path, _| {
        if let Ok(bench) = read_bench(path, &[]) {
            drop((bench.plan(None), bench.gate()));
        }
    },
};

pub(crate) const PROFILES: Target = Target {
    name: "profiles",
    ending: "toml",
    whole: || {
        vec![b"name = \"own\"\nsteps = [\"markers\", \"case\", { drop = [\"uh\"] }, { replace = { \"a\" = \"b\" } }, { numbers = \"en\" }, { pattern = { find = 'a+', with = \"b\" } }]\n".into()]
    },
    read: |path, _| {
        let (Some(folder), Some(name)) = (path.parent(), path.file_name()) else { return };
        if let Ok(profile) = read_profile(&name.to_string_lossy(), folder, Place::default()) {
            drop(profile.tokens("Uh, a hundred and five aaaa cabins at 7:30"));
        }
    },
};

pub(crate) const SOUND: Target = Target {
    name: "sound",
    ending: "bin",
    whole: || {
        let flac = fonex_formats::audio::encode_flac(&tone()).expect("it has samples");
        let wav = fonex_formats::audio::encode_wav(&tone()).expect("it has samples");
        vec![flac, wav, shipped("audio/help-001.flac")]
    },
    read: |path, _| {
        let Ok(decoded) = fonex_formats::audio::read_audio(path) else { return };
        assert!(decoded.audio.rate_hz > 0 && decoded.channels > 0, "{}", decoded.kind);
        if decoded.audio.samples.len() < 1 << 20 {
            let _ = measure(&decoded.audio);
        }
    },
};

pub(crate) const SECRETS: Target = Target {
    name: "secrets",
    ending: "env",
    whole: || vec![b"# keys\nexport MARL_KEY=\"a b\"\nOTHER='c'\n\nEMPTY=\n".into()],
    read: |_, bytes| drop(fonex_engines::fuzzed::secrets(&String::from_utf8_lossy(bytes))),
};

/// Every clip that was read has a label that can be read, and an id that is its own.
fn sane(corpus: &Corpus) {
    let mut ids: Vec<&str> = corpus.clips.iter().map(|clip| clip.id.as_str()).collect();
    ids.sort_unstable();
    assert!(ids.windows(2).all(|two| two[0] != two[1]), "each id once");
    for clip in &corpus.clips {
        assert!(Label::parse(&clip.text).is_ok(), "{:?}", clip.text);
    }
}

fn shipped(name: &str) -> Vec<u8> {
    let folder = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/shipped/"));
    std::fs::read(folder.join(name)).expect("the demo's files are there")
}

fn tone() -> Audio {
    Audio { rate_hz: 8_000, samples: (0..4_000).map(|i| (i as f32 * 0.3).sin() * 0.4).collect() }
}
