//! Makes the demo corpus from spoken lines: sets each clip into its channel's sound and writes FLAC and labels.
//!
//! usage: `cargo run --release -p fonex-formats --example demo_corpus LINES.tsv SPOKEN OUT`, after `speak.py`.

use std::collections::BTreeMap;
use std::error::Error;
use std::fs;
use std::path::Path;

use fonex_core::audio::{Audio, NoiseColour, add_noise, band_limit, clip_samples, noise, resample, reverberate};
use fonex_core::{Clip, TimedWord};
use fonex_formats::audio::{encode_flac, read_audio};
use fonex_formats::corpus_line;

const RATE_HZ: u32 = 16_000;
/// Silence put before and after the words, so that the channel is heard alone.
const LEAD_S: f64 = 0.25;
const TAIL_S: f64 = 0.15;

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [lines, spoken, out] = arguments.as_slice() else {
        return Err("usage: demo_corpus LINES.tsv SPOKEN OUT".into());
    };
    let (spoken, out) = (Path::new(spoken), Path::new(out));
    fs::create_dir_all(out.join("audio"))?;
    let mut corpus = String::new();
    let mut rows = csv::ReaderBuilder::new().delimiter(b'\t').from_path(lines)?;
    for (row, seed) in rows.deserialize::<BTreeMap<String, String>>().zip(1..) {
        let row = row?;
        let id = &row["id"];
        let mut audio = resample(&read_audio(&spoken.join(format!("{id}.wav")))?.audio, RATE_HZ)?;
        pad(&mut audio);
        set_into_channel(&mut audio, &row, seed);
        fs::write(out.join(format!("audio/{id}.flac")), encode_flac(&audio)?)?;

        let words: Vec<TimedWord> = serde_json::from_slice(&fs::read(spoken.join(format!("{id}.words.json")))?)?;
        corpus.push_str(&corpus_line(&labelled(&row, &words)));
        corpus.push('\n');
    }
    fs::write(out.join("corpus.jsonl"), corpus)?;
    Ok(())
}

fn pad(audio: &mut Audio) {
    let silence = |seconds: f64| vec![0.0; (seconds * f64::from(RATE_HZ)) as usize];
    audio.samples = [silence(LEAD_S), std::mem::take(&mut audio.samples), silence(TAIL_S)].concat();
}

/// Radio is narrow, windy and a little overdriven; a help point stands in a hall, far or near; announcements are clean.
fn set_into_channel(audio: &mut Audio, row: &BTreeMap<String, String>, seed: u64) {
    let add = |audio: &mut Audio, colour, snr_db| {
        let samples = noise(colour, audio.samples.len(), RATE_HZ, seed);
        add_noise(audio, &samples, snr_db);
    };
    match (row["channel"].as_str(), row["value"].as_str()) {
        ("radio", wind) => {
            let (wind_db, hiss_db) = match wind {
                "strong" => (5.0, 14.0),
                "light" => (14.0, 18.0),
                _ => (30.0, 22.0),
            };
            add(audio, NoiseColour::Wind, wind_db);
            clip_samples(audio, 3.0);
            add(audio, NoiseColour::White, hiss_db);
            band_limit(audio, 300.0, 3400.0);
        }
        ("help-point", distance) => {
            let (direct_db, snr_db) = if distance == "far" { (0.0, 12.0) } else { (9.0, 24.0) };
            reverberate(audio, 0.45, direct_db, seed);
            add(audio, NoiseColour::Pink, snr_db);
        }
        _ => add(audio, NoiseColour::Pink, 42.0),
    }
    let peak = audio.samples.iter().fold(0.0_f32, |peak, s| peak.max(s.abs()));
    audio.samples.iter_mut().for_each(|s| *s *= 0.6 / peak);
}

fn labelled(row: &BTreeMap<String, String>, words: &[TimedWord]) -> Clip {
    let mut tags = BTreeMap::from([("channel".to_owned(), row["channel"].clone())]);
    if !row["condition"].is_empty() {
        tags.insert(row["condition"].clone(), row["value"].clone());
    }
    let shifted = |s: f64| ((s + LEAD_S) * 1000.0).round() / 1000.0;
    Clip {
        ssml: None,
        id: row["id"].clone(),
        audio: Some(format!("audio/{}.flac", row["id"])),
        text: row["text"].clone(),
        lang: Some(row["lang"].clone()),
        speaker: Some(row["speaker"].clone()),
        tags: tags.into_iter().collect(),
        terms: row["terms"].split(';').map(str::to_owned).collect(),
        words: words
            .iter()
            .map(|w| TimedWord { text: w.text.clone(), start: shifted(w.start), end: shifted(w.end) })
            .collect(),
        segments: Vec::new(),
        side: None,
    }
}
